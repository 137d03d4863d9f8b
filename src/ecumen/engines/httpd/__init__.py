"""httpd 2.4: its configuration language, and what it makes of a request."""
