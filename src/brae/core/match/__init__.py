"""The match: an edit against its original, property by property, each difference with its remedy."""
