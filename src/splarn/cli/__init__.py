"""What a person types and reads: one module a command. Nothing is computed here."""
