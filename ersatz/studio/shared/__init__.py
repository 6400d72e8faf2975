"""What several pages share."""
