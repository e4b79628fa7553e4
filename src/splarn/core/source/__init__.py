"""One file or stream as it is read: where it lies, how it is opened, unpacked and made plain."""
