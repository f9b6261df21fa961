"""Texts: sources of documents, requests and pairs for networks that write, and of text files."""
