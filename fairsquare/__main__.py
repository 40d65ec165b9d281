"""`python -m fairsquare`."""

from fairsquare.cli import main

main()
