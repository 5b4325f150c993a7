"""Operations: backups of the records, and the way back."""
