"""The application: six places in one frame. Widgets draw; what they draw comes from the site's client."""
