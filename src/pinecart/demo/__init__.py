"""The sample scenario: the Larkfell bird survey. All data is generated and made up."""
