"""The hold on disk: batches, their manifests, putting back, expiry."""
