"""What ./run fuzz tries, and on what."""
