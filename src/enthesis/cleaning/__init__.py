"""What lingers, what is too wide and what ends: findings, ends to watch, and access that is withdrawn."""
