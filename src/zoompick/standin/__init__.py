"""The simulated archive: an invented world, an invented satellite, a real STAC API over HTTP on loopback."""
