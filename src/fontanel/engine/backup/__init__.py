"""Backups of the data directory, taken while the service runs, and restoring them."""
