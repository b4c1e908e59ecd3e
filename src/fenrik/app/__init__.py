"""The application: tables, services, queries. Asks for background work through ports."""
