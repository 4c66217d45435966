"""Where the bytes of attachments lie, what they are, and how pictures are opened."""
