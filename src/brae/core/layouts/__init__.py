"""The layout language: proprietary formats described as data, read and written by one description."""
