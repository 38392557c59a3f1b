"""Shared by the routes of all apps: sign-in, paging, wire types."""
