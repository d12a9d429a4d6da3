"""A stand-in cluster: a small part of the public Kubernetes API, with its own plain authorisation."""
