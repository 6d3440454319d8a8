"""Reading and writing of values, with the place of every mistake."""
