"""``python -m pairshelf.cli``."""

from pairshelf.cli import main

if __name__ == "__main__":
    main()
