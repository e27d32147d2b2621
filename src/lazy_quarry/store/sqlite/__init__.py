"""All that is SQLite's alone: tables, the storage of a journal in them, the index for searching, repair, upgrades."""
