"""The window: it shows what the bench and the core say, and sends a technician's orders back. It computes nothing."""
