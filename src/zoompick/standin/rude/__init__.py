"""An archive without manners: what others' archives do and the polite one does not; ``docs/rude.md`` lists it.

It shares no code with the client, nor with the polite archive: pixels are written by tifffile and h5py, places
come from pyproj, JSON is written by hand. Its ground is a formula of longitude and latitude: the truth of each pixel
is known to whoever wants to check one.
"""
