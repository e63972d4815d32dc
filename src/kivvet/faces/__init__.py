"""What a book does, by the order of work; `kivvet.Book` is all of it together."""
