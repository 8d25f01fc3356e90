"""The neural engine: compiled layers and training loops of our own."""
