"""What an estate is: addresses, places, kinds, conditions, statements; the errors; and the words that all share."""
