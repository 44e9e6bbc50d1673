"""Trials: the same shot with other values, and what they do to it."""
