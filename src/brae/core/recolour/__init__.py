"""One change of colours over many pictures: steps as data, and what they do."""
