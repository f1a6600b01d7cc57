"""Plan documents: parsing, answer reports, and the ledger of what was used."""
