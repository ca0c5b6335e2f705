"""The job itself: bytes to pictures and back. Imports no web, database or command-line package."""
