"""Fontanel: a shared document question-answering service."""

__version__ = "0.1.0"
