"""Binary answers for the viewport and the ribbon."""
