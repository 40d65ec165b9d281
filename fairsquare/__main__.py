"""`python -m fairsquare`."""

from fairsquare.cli import main

if __name__ == "__main__":
    main()
