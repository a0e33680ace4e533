"""Question sets, and trials that ask them."""
