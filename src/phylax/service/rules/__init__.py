"""Rules at a scope, what another rule would do, and consents."""
