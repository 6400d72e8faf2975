"""Signal building blocks that voices and effects share: filters, shapers, changes of rate. Plain functions over arrays."""
