"""The document: steps and what they are joined by, edits, history, the runner and the file format."""
