"""Running it: the private MariaDB, and the processes of a demo that start and stop together."""
