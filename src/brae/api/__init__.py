"""The server: thin routes over the work, for the page and for other programs."""
