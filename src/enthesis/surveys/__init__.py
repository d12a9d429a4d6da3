"""What live systems said: the survey format, and statements as a live system holds them."""
