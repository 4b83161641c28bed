"""`python -m neogenesis` is the same program as `neogenesis`."""

from neogenesis.cli.main import main

main()
