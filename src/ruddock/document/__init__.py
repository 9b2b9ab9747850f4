"""What a reader gets, knowing no model: sentences, tables with typed cells, figures; and what renders them."""
