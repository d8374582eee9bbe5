"""The desk: visits, parts on order, advice."""
