"""What the rooms and the command line can do: rules, caches and writers, without HTTP."""
