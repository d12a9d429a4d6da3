"""Everything at once: who reaches what, by which chains, what differs between two estates, and invariants."""
