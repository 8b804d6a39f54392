"""The strip between trellis and bench: the selected step read aloud, and edited in place."""
