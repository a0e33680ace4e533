"""What teams may have and use, what they do, and who is warned."""
