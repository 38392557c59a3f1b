"""The Larkmead scenario: a beekeepers' outfitter, made up from end to end."""

# The account at the accounts that is left for the visitor to connect.
NOT_YET_CONNECTED = "larkmead-trade"
