"""What users do to a pool, played: mixes of requests, and what becomes of them on drives that can do so much."""
