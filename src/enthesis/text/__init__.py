"""What texts say: times, lengths of time, and which name was meant. Standard library only."""
