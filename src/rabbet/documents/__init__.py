"""What commands found, as JSON documents; the words that these and the texts for people share."""
