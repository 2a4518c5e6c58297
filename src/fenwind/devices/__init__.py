"""Protocols to receivers, correction casters and control ports; nothing here knows what is at the other
end."""
