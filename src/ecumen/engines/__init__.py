"""The engines' configuration as trees with file and line, and what they make of it."""
