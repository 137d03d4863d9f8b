"""The web application: it asks the core, keeps surveys, and serves the screen."""
