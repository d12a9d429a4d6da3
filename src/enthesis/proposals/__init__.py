"""Estate against survey: statements wanted, steps, their order, their effects on access, and guards."""
