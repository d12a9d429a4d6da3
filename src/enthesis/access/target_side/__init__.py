"""Target-side: what the target's account lets in, by a grant or by a trust."""
