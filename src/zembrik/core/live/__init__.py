"""Guided takes: a simulation that runs while a hand leads something in it."""
