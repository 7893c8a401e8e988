"""Reading a desk: from TOML tables to the model, with exact complaints."""
