"""What every place needs: records, forms with quantities, words for numbers."""
