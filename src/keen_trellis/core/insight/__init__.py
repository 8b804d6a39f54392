"""What the program can tell about tables by itself: which fields could link them."""
