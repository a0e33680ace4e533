"""The HTTP service: one router file per noun."""
