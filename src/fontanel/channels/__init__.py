"""Channels: ways by which people ask a desk from elsewhere, a file for each kind."""
