"""The computation. Nothing in this package prints, parses options or draws."""
