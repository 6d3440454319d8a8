"""What the views share: the session, what plays, what runs beside; no widgets."""
