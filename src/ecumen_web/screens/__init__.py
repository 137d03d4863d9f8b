"""What screens show of what is kept: figures, failures and lines, asked for and put together."""
