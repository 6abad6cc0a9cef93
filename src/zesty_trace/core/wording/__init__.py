"""What is said in words: sentences, the wiring list, a part in another form."""
