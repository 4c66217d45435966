"""`python -m nestrel.cli`, the same as `nestrel`."""

from nestrel.cli.main import main

main()
