"""Everything in a form that others can read: the shop, its record, one client; and a shop built
anew from it."""
