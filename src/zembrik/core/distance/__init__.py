"""Signed distance: the one language of contact."""
