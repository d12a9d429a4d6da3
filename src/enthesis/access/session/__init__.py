"""Session: whether what was taken on still lives, and lies within its narrowings."""
