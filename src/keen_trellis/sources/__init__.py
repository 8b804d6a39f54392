"""Readers of sources, one module a kind; `readers` is their registry."""
