"""A delivery → a page that says whether it is fit for use."""
