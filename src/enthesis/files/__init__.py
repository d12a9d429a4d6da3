"""Estate files to the model and back: every error is located, and all of them are reported in one reading."""
