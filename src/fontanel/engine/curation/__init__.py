"""Curation: approved answers, and which one a question is served."""
