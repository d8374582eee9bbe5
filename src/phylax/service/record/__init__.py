"""Seals of the record, and everything taken out."""
