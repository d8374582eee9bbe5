"""The shop's people, their sign-ins and what they keep."""
