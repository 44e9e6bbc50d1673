"""Numbers over frames."""
