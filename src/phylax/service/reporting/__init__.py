"""Reports for clients: gathered from the records, printed on the shop's paper, kept, sent."""
