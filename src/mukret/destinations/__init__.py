"""One module per format, all behind the same few members; publishing stands once, outside."""
