"""What is there: drives and the places they stand in, volumes, hosts and who reaches what."""
