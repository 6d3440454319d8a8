"""What makes one recording sound like another although other notes are played: figures, and how far two are apart."""
