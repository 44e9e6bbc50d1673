"""The pages: each loads, calls one library or core function, and renders."""
