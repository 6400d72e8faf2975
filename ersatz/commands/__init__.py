"""What the command `ersatz` does: a module a command, imported when it is asked for, so that help and mistakes answer at once."""
