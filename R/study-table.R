# Units, scores and weights into a database.

# The table is made under another name and takes its own when it is whole.
write_table_units <- function(design, connection, table, replace, call) {
  need_package("DBI", "write to a database", call)
  check_table_name(connection, table, replace, call)
  query <- if (is_remote(design)) design_query(design, connection, call)
  draft <- paste0(table, "_draft")
  quoted <- function(name) as.character(DBI::dbQuoteIdentifier(connection, name))
  run <- function(...) DBI::dbExecute(connection, paste0(...))
  tryCatch({
    if (DBI::dbExistsTable(connection, draft)) run("DROP TABLE ", quoted(draft))
    if (!is.null(query)) run("CREATE TABLE ", quoted(draft), " AS ", query) else
      DBI::dbWriteTable(connection, draft, plain_table(design), row.names = FALSE)
    if (DBI::dbExistsTable(connection, table)) run("DROP TABLE ", quoted(table))
    run("ALTER TABLE ", quoted(draft), " RENAME TO ", quoted(table))
  }, error = function(e) {
    try(suppressWarnings(run("DROP TABLE ", quoted(draft))), silent = TRUE)
    abort_kind("database", c("The table {.val {table}} could not be written; nothing is changed.",
                             x = without_secrets(conditionMessage(e))), call = call, .envir = environment())
  })
  invisible(table)
}

check_table_name <- function(connection, table, replace, call) {
  check_connection(connection, call)
  check_string(table, arg = "table", call = call)
  check_flag(replace, arg = "replace", call = call)
  if (!DBI::dbExistsTable(connection, table) || replace) return(invisible(table))
  abort_input(c("There is a table {.val {table}} already.",
                i = "Choose another name, or say {.code replace = TRUE}."), call = call)
}

# Id, score and weight of every unit of the study; made where the rows are, so that none is sent.
design_query <- function(design, connection, call) {
  study <- study_of(design)
  source <- study$source
  if (!is.null(source$shards)) {
    abort_unsupported(c("The weights of a table on several servers can't be written back.",
                        i = "Score and weights are formulas of the columns, with the coefficients of
                             {.code tidy(design)}."),
                      call = call)
  }
  if (!identical(connection, source$connection)) {
    abort_unsupported(c("The weights of a table in a database can be written to the same database alone.",
                        i = "Give the connection that {.fn remote_units} was given."), call = call)
  }
  if (is.null(study$roles$id)) {
    abort_input(c("Without an {.arg id} weights can't be told apart.", i = "Name one in {.fn frame_study}."),
                call = call)
  }
  rows <- rlang::env_clone(study$rows)
  rows$base <- c(rows$base, u_id = quote_name(source, study$roles$id))
  weight <- if (is.null(design$weight_word)) design$kept_word else design$weight_word
  words <- list(score = design$score$fitted, weight = if (is.null(weight)) 1 else weight)
  words <- words[!vapply(words, is.null, NA)]
  said <- vapply(words, sql_of, "", source$dialect)
  what <- sprintf("u_id AS %s, %s", quote_name(source, study$roles$id),
                  paste(said, "AS", names(words), collapse = ", "))
  select_words(rows, what, c("u_id", unlist(lapply(words, all.vars))))
}

plain_table <- function(data) {
  data <- if (is.data.frame(data)) data else as.data.frame(data)
  data <- plain_labels(data)
  data[] <- lapply(data, function(column) if (is.factor(column)) as.character(column) else column)
  names(data) <- sub("^[.]", "", names(data))
  data
}

# Differences with their errors, as rows behind `labels` (a data frame).
contrast_rows <- function(labels, difference, se, df, level) {
  difference <- unname(difference)
  se <- unname(se)
  half <- core_t_quantile(level, df) * se
  statistic <- ifelse(se > 0, difference / se, NA)
  cbind(labels, data.frame(
    difference = difference, std.error = se, statistic = statistic, p.value = core_t_p_value(statistic, df),
    conf.low = difference - half, conf.high = difference + half
  ))
}

# The terms of several effects in one object, each called by its part: "yes: difference".
term_keys <- function(x) {
  paste0(rep(names(x), lengths(lapply(x$effects, `[[`, "estimate"))), ": ",
         unlist(lapply(unname(x$effects), function(effect) names(effect$estimate))))
}

coef_of_parts <- function(x) {
  stats::setNames(unlist(lapply(unname(x$effects), `[[`, "estimate")), term_keys(x))
}

# What confint() gives of the rows of a tidy table, which are called keys.
limits_of_terms <- function(table, keys, parm, level, call = rlang::caller_env()) {
  known <- if (is.numeric(parm)) keys[parm] else parm
  if (!all(known %in% keys)) {
    abort_input(c("{.arg parm} must name terms of the effect.", x = "The terms are {.val {keys}}."), call = call)
  }
  limits <- as.matrix(table[match(known, keys), c("conf.low", "conf.high")])
  dimnames(limits) <- list(known, paste(format(50 * c(1 - level, 1 + level), trim = TRUE, digits = 3), "%"))
  limits
}
