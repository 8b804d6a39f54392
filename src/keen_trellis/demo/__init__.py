"""The demo: data and flows of the Lantern Coast Museums, a made-up museum service on a made-up coast."""
