"""Triangle meshes and primitive shapes."""
