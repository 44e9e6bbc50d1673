"""The first frame, before anything moves."""
