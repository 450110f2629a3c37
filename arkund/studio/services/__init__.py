"""Services: what pages, command line and jobs call. One module per concern; each change of a Plan is a Move."""
