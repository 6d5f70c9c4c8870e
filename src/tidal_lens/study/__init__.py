"""The study: one immutable value of everything on the table, its evaluation and its file."""
