"""Values as lines, tables and files. Nothing here decides anything."""
