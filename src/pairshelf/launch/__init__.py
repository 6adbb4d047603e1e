"""Starting and stopping everything: PostgreSQL of our own, the web server, the worker."""
