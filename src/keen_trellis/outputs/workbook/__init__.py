"""xlsx workbooks: new ones, and those that exist, of which all is kept but what is written."""
