"""The queue and the workers."""
