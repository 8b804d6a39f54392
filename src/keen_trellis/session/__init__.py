"""One open flow without an interface: what the window, a test or a script drives."""
