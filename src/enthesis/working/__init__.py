"""The work itself, over ports only: survey, enact, prove."""
