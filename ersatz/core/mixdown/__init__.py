"""The render graph: notes -> part -> bus -> returns -> master, in blocks that are cached by content."""
