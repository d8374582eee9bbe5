"""Rules and consents."""
