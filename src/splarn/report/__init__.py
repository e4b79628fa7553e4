"""What is drawn and written for others: figures, the page, Markdown."""
