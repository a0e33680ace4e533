"""Commands for approved answers, question sets and trials."""
