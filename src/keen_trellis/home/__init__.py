"""At home on the desktop: what the program puts into a user's own folders, and takes away again."""
