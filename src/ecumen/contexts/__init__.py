"""Security contexts: which one the rules give a path, and what the policy lets a domain do."""
