"""Published tables as constants, each with its source."""
