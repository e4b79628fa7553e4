"""What SQL targets share: a link, and each part of the contract over it."""
