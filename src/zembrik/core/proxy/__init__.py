"""Stand-in shapes: fitted, measured, drawn."""
