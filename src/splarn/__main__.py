"""Lets `python -m splarn` do what the `splarn` command does."""

from splarn.cli.main import main

if __name__ == "__main__":
    main()
