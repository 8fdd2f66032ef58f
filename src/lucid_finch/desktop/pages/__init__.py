"""Tables, lists and cards of the drawer."""
