"""What is kept of the work on an estate: who enacted what, step by step, and who works where now."""
