"""Flows run where their tables are: sent there, proven against what they come to here, and fetched."""
