"""What strangers may ask of the service: connections, requests, tries to sign in."""
