"""What every room stands on: errors, texts made plain, SQL quoted, files written whole, the array library, extras."""
