"""The setup document, its presets and its meshes."""
