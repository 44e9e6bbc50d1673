"""Changes over a cache that leave it as it is."""
