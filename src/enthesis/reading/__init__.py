"""Files to model and back: every mistake is located, all of them are reported in one reading."""
