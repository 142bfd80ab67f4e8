"""What the `gambrel` command does, one module for each part."""
