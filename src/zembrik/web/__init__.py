"""The pages."""
