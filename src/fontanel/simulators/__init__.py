"""Simulated outside services, for the demo and for trying things out."""
