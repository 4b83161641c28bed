"""Quotes: made from the ways weighed, printed in the customer's language, accepted or declined."""
