#' Units that stay in a database
#'
#' Names a table, view or query in a database, to be framed by [frame_study()] as a data frame would be. The rows stay
#' where they are: every verb sends statements that the engine answers with sums, and makes the same numbers of them as
#' of rows in memory. Nothing is written to the database but by [write_units()].
#'
#' What works on such a study: [frame_study()]; [describe_groups()]; [score_units()] by regression (logit, probit,
#' complementary log-log) and by ladder; [trim_units()]; [weigh_units()] (inverse, entropy and balancing-score weights,
#' stabilised or cut); [stratify_units()]; [group_units()] (exact and coarsened); [assess_overlap()], [assess_score()],
#' [assess_weights()], [assess_balance()] (with extra rows) and [assess_power()]; [measure_effect()] (`"difference"`,
#' `"regression"` and `"augmented"`, by groups of a covariate); [compare_effects()]; [probe_ratio()], [probe_omitted()],
#' [probe_stability()] and [probe_weights()] (without draws); [export_table()], [write_report()] and the logbook. For
#' one table on several servers see [remote_shards()]. Verbs that need rows (learners, draws) refuse and say how to go
#' on with a sample: [fetch_units()].
#'
#' [pair_units()] fetches ids and scores, and nothing else, finds the pairs in memory, and hands them to
#' [write_units()], which puts them beside the rows: a table of id, set and weight. Rows joined to it are framed with
#' that weight, and the set as cluster; errors then take the pairs as given.
#'
#' The ladder takes one pass per rung for the score statistics of all candidates, and fits those whose statistic is at
#' least half of the largest likelihood ratio found.
#'
#' Over time: [frame_panel()] takes a table as well, and the engine sums units that are alike in cohort, periods seen
#' and cluster. On such a panel [measure_did()] knows all its estimators but `"triple"` without covariates, and
#' `"group_time"` adjusted by regression; [summarise_did()], [decompose_did()], [probe_trends()] and [compare_effects()]
#' go on as ever, the last without the covariance of effects where single units are the clusters. [assess_trends()],
#' draws and corrections by cluster want a `cluster` or `group` of several units. A unit's weight must not change over
#' time, and at most 200,000 kinds of units can be told apart. A cohort of one unit has no standard error.
#'
#' Quantiles, Kolmogorov-Smirnov distances and bounds of strata hang on the order of rows. Of up to 5,000 rows they are
#' exact. Of more they come from bins, cut until each holds at most a thousandth of either arm or one value; prints then
#' say how far off they can be, and mean distances of distributions (`ecdf_mean`) are NA. [assess_overlap()] fetches up
#' to 20,000 rows of an arm to say who has no counterpart, [assess_weights()] the five heaviest of each arm.
#'
#' @param connection A DBI connection, such as `DBI::dbConnect(RSQLite::SQLite(), "crews.sqlite")`; or a table of
#'   dplyr's on one, and `table` left out. It stays yours to close.
#' @param table Name of a table or view, a `DBI::Id` (schema and table), or a query in `DBI::SQL()`.
#' @return A `twin_remote`; its print lists the columns. Studies, designs and effects on it print how often the table
#'   was read.
#' @section Engines: SQLite, PostgreSQL and MariaDB (tested), others in standard SQL, with the warning
#'   `twin_warning_engine`. Numbers are taken as double precision. In SQLite, which knows neither, dates are text and
#'   TRUE/FALSE are 1 and 0.
#' @section Errors: `twin_error_input` for what is no connection or no table there; `twin_error_database` when the
#'   engine refuses a statement (its own words, without credentials); `twin_error_changed` when the table has other rows
#'   or values than when it was framed; `twin_error_unsupported` from verbs that need rows.
#' @family data
#' @examplesIf requireNamespace("RSQLite", quietly = TRUE)
#' connection <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' DBI::dbWriteTable(connection, "crews", crews)
#' remote <- remote_units(connection, "crews")
#' remote
#' study <- frame_study(remote, treatment = "joined", outcome = "income",
#'                      covariates = c("boat_length", "crew_size", "port_size"))
#' study |> score_units() |> weigh_units() |> measure_effect()
#' DBI::dbDisconnect(connection)
#' @export
remote_units <- function(connection, table) {
  call <- rlang::current_env()
  need_package("DBI", "read from a database", call)
  if (inherits(connection, "tbl_lazy") && missing(table)) {
    need_package("dbplyr", "take a table of dplyr's", call)
    table <- dbplyr::sql_render(connection)
    connection <- dbplyr::remote_con(connection)
    table <- DBI::SQL(as.character(table))
  }
  check_connection(connection, call)
  new_remote(connection, if (missing(table)) NULL else table, call)
}

# connection: the one that names are quoted by; shards: those that are asked (remote-shards.R), NULL for it alone. look:
# does it hold the table?
new_remote <- function(connection, table, call, shards = NULL, look = TRUE) {
  from <- source_sql(connection, table, call, look)
  counter <- new.env(parent = emptyenv())
  counter$passes <- 0L
  label <- if (is.null(shards)) from$label else paste(from$label, "on", plural(length(shards), "server"))
  source <- structure(list(connection = connection, from = from$sql, label = label,
                           dialect = dialects[[dialect_of(connection)]], counter = counter, columns = NULL,
                           shards = shards),
                      class = "twin_remote")
  source$columns <- plain_first_rows(rows_to_look_at(source, look, call))
  check_units(source$columns, call)
  source
}

rows_to_look_at <- function(source, look, call) {
  sql <- sprintf("SELECT * FROM %s LIMIT 1000", source$from)
  if (look) ask_source(source, sql, reads = FALSE, call = call) else linked_rows(source, sql, call)
}

check_connection <- function(connection, call) {
  if (!inherits(connection, "DBIConnection")) {
    abort_input(c("{.arg connection} must be an open DBI connection.", x = "It is {describe_value(connection)}.",
                  i = "For example {.code DBI::dbConnect(RSQLite::SQLite(), \"crews.sqlite\")}."), call = call)
  }
  if (!is_open(connection)) {
    abort_input(c("{.arg connection} is closed or lost.", i = "Connect again."), call = call)
  }
}

# Some drivers can't tell; then an answer does.
is_open <- function(connection) {
  told <- tryCatch(DBI::dbIsValid(connection), error = function(e) NA)
  if (!is.na(told)) return(told)
  tryCatch(nrow(suppressWarnings(answer_of(connection, "SELECT 1"))) == 1L, error = function(e) FALSE)
}

# list(sql: what stands after FROM, label: for messages).
source_sql <- function(connection, table, call, look = TRUE) {
  if (inherits(table, "SQL")) {
    return(list(sql = sprintf("(%s) twin_query", sub(";\\s*$", "", as.character(table))), label = "a query"))
  }
  name <- if (inherits(table, "Id")) unlist(attr(table, "name")) else table
  if (inherits(table, "Id") && is.null(name)) name <- unlist(table@name)
  if (!is.character(name) || length(name) == 0L || anyNA(name) || (is.character(table) && length(table) != 1L)) {
    abort_input(c("{.arg table} must be the name of a table, a {.cls DBI::Id} or a query in {.fn DBI::SQL}.",
                  x = "It is {describe_value(table)}."), call = call)
  }
  known <- if (look) tryCatch(DBI::dbListTables(connection), error = function(e) NULL)
  if (is.character(table) && !is.null(known) && !name %in% known && !view_answers(connection, name)) {
    near <- nearest_name(name, known)
    abort_input(c("There is no table {.val {name}} in this database.",
                  i = if (is.null(near)) "It has {.val {utils::head(known, 10)}}." else "Did you mean {.val {near}}?"),
                call = call)
  }
  quoted <- vapply(name, function(part) as.character(DBI::dbQuoteIdentifier(connection, part)), "")
  list(sql = paste(quoted, collapse = "."), label = paste(name, collapse = "."))
}

# Lists of tables may leave out views and tables of other schemas on the path.
view_answers <- function(connection, name) {
  sql <- sprintf("SELECT 1 FROM %s WHERE 1 = 0", DBI::dbQuoteIdentifier(connection, name))
  !is.null(tryCatch(suppressWarnings(answer_of(connection, sql)), error = function(e) NULL))
}

# The first rows tell what kind each column is of; labels and counts come from all of them.
plain_first_rows <- function(first) {
  first[] <- lapply(first, function(column) {
    if (inherits(column, "integer64")) return(as.double(format(column)))
    if (is.factor(column)) as.character(column) else column
  })
  first
}

# Sends one statement and fetches its answer. combine: how the answers of several shards are put together
# (ask_shards()), NULL to ask one connection alone. reads: does it pass over the rows?
ask_source <- function(source, sql, combine = NULL, reads = TRUE, call = NULL) {
  alone <- is.null(source$shards) || is.null(combine)
  answer <- if (alone) answer_alone(source, sql, call) else ask_shards(source, sql, combine, call)
  if (reads) source$counter$passes <- source$counter$passes + 1L
  answer
}

answer_alone <- function(source, sql, call) {
  tryCatch(suppressWarnings(answer_of(source$connection, sql)), error = function(e) {
    stop_database(source, conditionMessage(e), call)
  })
}

answer_of <- function(connection, sql) {
  result <- DBI::dbSendQuery(connection, sql)
  on.exit(DBI::dbClearResult(result))
  answer <- DBI::dbFetch(result, n = -1L)
  if (!is.data.frame(answer)) stop("The statement gave no answer.")
  answer
}

# What a driver said, without what it may tell of the connection.
without_secrets <- function(said) {
  secret <- "(password|passwd|pwd|user|host|service)\\s*=?\\s*['\"]?[^[:space:]'\",;]+['\"]?"
  said <- gsub(secret, "\\1 ...", said, ignore.case = TRUE)
  said <- gsub("[[:alpha:]]+://[^[:space:]]+", "...", said)
  said <- gsub("[^[:space:]\"']+@[^[:space:]\"']+", "...", said)
  said <- gsub("((server at|dbname|database|role|port) \"?)[^[:space:]\",]+", "\\1...", said)
  substr(gsub("\\s+", " ", said), 1L, 300L)
}

# The engine's own words, but for what a driver may put in of the connection.
stop_database <- function(source, said, call) {
  said <- without_secrets(said)
  lost <- !is_open(source$connection)
  abort_kind("database", c(
    "{source$dialect$words} did not answer a question about {.val {source$label}}.", x = "It says: {said}",
    i = if (lost) "The connection is lost: connect again and frame the study again. Nothing was written."
    else "Nothing was written. Look at the columns' types and your rights on the table."
  ), table = source$label, call = call, .envir = environment())
}

#' Draw a sample of units in a database
#'
#' Some rows at random, for what needs rows in memory: pairs, learners, draws, pictures of distributions. Framed like
#' any data frame, they give the same design as the whole table would, on fewer units.
#'
#' @param x A `twin_remote` of [remote_units()].
#' @param n How many rows, default 10,000.
#' @return A data frame. Which rows are drawn is the engine's choice and not repeatable: keep what you drew.
#' @section Errors: `twin_error_input` when `n` is no whole number above 0.
#' @family data
#' @examplesIf requireNamespace("RSQLite", quietly = TRUE)
#' connection <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' DBI::dbWriteTable(connection, "crews", crews)
#' nrow(fetch_units(remote_units(connection, "crews"), n = 500))
#' DBI::dbDisconnect(connection)
#' @export
fetch_units <- function(x, n = 10000) {
  check_class(x, "twin_remote", "remote_units")
  check_count(n, min = 1)
  draw <- function(source, n) {
    plain_first_rows(ask_source(source, sprintf("SELECT * FROM %s ORDER BY %s LIMIT %.0f", source$from,
                                                source$dialect$random, n), rep("row", ncol(x$columns))))
  }
  if (is.null(x$shards)) return(draw(x, n))
  one <- function(k) list(shards = x$shards[k], counter = x$counter, from = x$from, dialect = x$dialect)
  sizes <- vapply(seq_along(x$shards), function(k) count_where(one(k), character()), 0)
  wanted <- pmin(sizes, diff(round(c(0, cumsum(sizes) / sum(sizes) * min(n, sum(sizes))))))
  found <- lapply(which(wanted > 0), function(k) draw(one(k), wanted[k]))
  stats::setNames(do.call(rbind, found), names(x$columns))
}
