"""Where bodies stand: moved by hand, let down, stood on surfaces, dropped in layers."""
