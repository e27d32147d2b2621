"""Sentences, records and JSON of what clients see, the same in the application and on the command line."""
