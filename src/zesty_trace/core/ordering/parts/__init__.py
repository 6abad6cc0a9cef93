"""Parts to buy: what is needed, what is there, who sells it, and the purchase that costs least."""
