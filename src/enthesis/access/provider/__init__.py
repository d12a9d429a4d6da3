"""Provider: a session works only at the provider it was obtained from."""
