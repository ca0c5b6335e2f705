"""What goes over the wire, one file for each part of the API."""
