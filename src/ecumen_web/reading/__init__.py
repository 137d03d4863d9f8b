"""Reading of logs: from the lines of a server's logs to the sums that are kept of them."""
