"""How a remake leaves Ersatz: mix files and MIDI."""
