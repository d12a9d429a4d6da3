"""Everything at once: the web of takeable identities, reach, changes, invariants, access differences, cards."""
