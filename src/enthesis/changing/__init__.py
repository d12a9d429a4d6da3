"""Survey against estate: what would change, in what order, and what that gives and takes."""
