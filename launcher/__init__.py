"""The launcher: sets up what is missing and starts Aldrip. Standard library only."""
