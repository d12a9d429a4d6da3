"""Changes of access: prepared, permitted and carried out, for every command and for programs."""
