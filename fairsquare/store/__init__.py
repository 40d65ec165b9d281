"""MariaDB through PyMySQL: one module for each thing that is kept, plain SQL in it."""
