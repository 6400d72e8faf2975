"""The remake as a value: the song document and the edits that turn one song into the next."""
