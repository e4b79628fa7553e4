"""Tables that are files: how rows lie in them, by partition, order, size and packing."""
