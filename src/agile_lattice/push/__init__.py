"""Changes carried to devices. Each has a way back that lives there: what is not confirmed in time goes by itself."""
