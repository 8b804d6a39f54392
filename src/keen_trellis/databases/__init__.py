"""What reading from databases and writing to them have in common: engines, passwords, errors."""
