"""Caches on disk: their layout, writing and reading."""
