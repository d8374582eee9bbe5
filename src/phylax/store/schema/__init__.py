"""Numbered schema files, applied in order. A landed file is never changed; add the next number."""
