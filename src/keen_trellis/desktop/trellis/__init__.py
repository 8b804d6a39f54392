"""The upper pane: the flow as rails, knots and stubs."""
