"""The computation: tables, links, matches and joins. Knows no interface, no files and no flow."""
