"""What leaves: packages of files with a report, checksums and the recipes that make them again."""
