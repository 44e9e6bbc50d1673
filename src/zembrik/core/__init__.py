"""The computation: no web, no database, SI units inside, tested on its own."""
