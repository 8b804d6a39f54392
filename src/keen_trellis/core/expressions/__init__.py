"""The scalar part of ISO SQL: text to an expression (`parsing`), an expression to a column (`expression`)."""
