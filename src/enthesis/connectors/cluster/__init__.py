"""Clusters, through the public Kubernetes API. Its words stay in here."""
