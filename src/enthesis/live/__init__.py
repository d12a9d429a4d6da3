"""Work on live systems, over ports: survey, propose, enact, prove, refuse, lend, keys, origins, sign-in."""
