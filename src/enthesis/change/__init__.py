"""Changes of access: prepared against the live side, permitted, and carried out; whoever asks for them."""
