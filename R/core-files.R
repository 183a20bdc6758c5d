# What the system does in one step, and R can't: two paths change places. FALSE where there is no such step.
core_exchange_paths <- function(first, second) glue_exchange_paths(enc2native(first), enc2native(second))
