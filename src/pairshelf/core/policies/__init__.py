"""What decides by itself: which work may run beside which."""
