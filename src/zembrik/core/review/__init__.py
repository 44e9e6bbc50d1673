"""What a cache shows at a glance: figures of every point, as colours."""
