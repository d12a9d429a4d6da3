"""One connector per kind of live system, behind the ports. They do not know one another."""
