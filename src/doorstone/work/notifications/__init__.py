"""Notifications: webhooks, mail, calendars."""
