"""The command line: `lucid-finch`, also `python -m lucid_finch`."""
