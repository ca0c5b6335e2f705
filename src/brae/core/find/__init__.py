"""Finding: items by a picture, by bytes, by what they name and what names them."""
