"""Maps, calendars and contact sheets. Matplotlib is loaded here only, when something is drawn."""
