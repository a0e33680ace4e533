"""Erasing people: what is theirs is deleted, what names them is made anonymous."""
