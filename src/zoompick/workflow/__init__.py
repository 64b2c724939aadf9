"""The verbs: each joins the rooms for one act of the analyst."""
