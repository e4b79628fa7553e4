"""Files as they come: hand-made ones and made-up ones, with what a careful person reads in them."""
