"""The clipboard: what it holds is kept in every form, a text is offered and fetched, and what was there comes back."""
