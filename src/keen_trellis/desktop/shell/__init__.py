"""The window around the three panes: its menus, files and dialogs."""
