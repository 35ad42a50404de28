"""JSON documents of the commands' results, and the words that documents and views share."""
