"""Tables: a source made of rows of a DataFrame or file."""
