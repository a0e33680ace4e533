"""Channels of desks: their settings, and the messages that come and go through them."""
