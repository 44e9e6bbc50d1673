"""Zembrik: collision proxies, start states, bakes and caches for simulation technical directors."""

__version__ = "0.1.0"
