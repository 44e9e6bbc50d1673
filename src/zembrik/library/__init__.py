"""What is on record: shows, shots, assets, setups, bakes, caches, deliveries."""
