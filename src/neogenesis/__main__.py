"""`python -m neogenesis` is the same program as `neogenesis`."""

from neogenesis.cli.main import main

if __name__ == "__main__":  # reading processes import this module again
    main()
