"""Position-based simulation with compliance and small steps."""
