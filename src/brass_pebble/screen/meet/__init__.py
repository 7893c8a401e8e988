"""Meeting a device: from plugging it in to a drawn surface."""
