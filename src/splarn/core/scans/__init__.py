"""What questions read of rows by how these are kept, and what that costs."""
