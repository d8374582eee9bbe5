"""Removing what the rules let go: judged once more at the action."""
