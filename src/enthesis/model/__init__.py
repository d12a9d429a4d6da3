"""What an estate is: addresses, places, kinds, conditions and statements. Frozen data, standard library only."""
