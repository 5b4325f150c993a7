"""Pure computation: everything Door Stone decides, and nothing it touches. See README.md beside this file."""
