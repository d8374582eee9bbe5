"""What is on its way to the service: messages kept on disk, merged, and progress."""
