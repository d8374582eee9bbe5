"""Notices are composed, posted and logged; each is delivered at least once, never in a storm."""

from phylax.service.attention.notices.composing import compose, compose_trial
from phylax.service.attention.notices.posting import keep_posting, post

__all__ = ["compose", "compose_trial", "keep_posting", "post"]
