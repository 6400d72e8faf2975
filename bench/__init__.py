"""Accuracy and speed, printed by ./run accuracy and ./run bench."""
