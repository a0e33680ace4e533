"""Embedders: the service's own, and those that operators registered."""
