"""Band guides and class tables: what instruments deliver and what their codes mean."""
