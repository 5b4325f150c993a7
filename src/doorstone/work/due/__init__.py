"""What is due: the list, what ends by itself, and what an administrator must notice."""
