"""What is wrong with a setup, how much, and the remedy."""
