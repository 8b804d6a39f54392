"""What steps come to in SQL, for databases that compute them just as this program does."""
