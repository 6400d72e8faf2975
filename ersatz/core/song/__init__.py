"""The remake as a value: the song document."""
