"""The values that clients of a site see: frozen values, the same from every kind of site."""
