"""`python -m lucid_finch` is the command line."""

from lucid_finch.command_line.main import main

main()
