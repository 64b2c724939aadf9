"""Downloads: what to fetch, and fetching it whole and checked."""
