"""Tables of databases: made, replaced, added to and updated, each database in one transaction."""
