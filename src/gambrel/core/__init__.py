"""The computation: plan in, forecast out. Knows no web, no database and no files."""
