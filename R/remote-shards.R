#' The same table on several servers
#'
#' Rows of one table, spread over servers. Every statement goes to all of them at once and the sums are added here,
#' always in the order of `shards`: the numbers are those of one table that holds all rows. Otherwise as
#' [remote_units()], whose verbs work alike.
#'
#' @param shards A list with a name for each server (without names they are "shard 1", "shard 2", ...). Each is either a
#'   function without arguments that opens a DBI connection, which then lives in a process of its own (package callr),
#'   so that the servers work at the same time; or an open DBI connection, which are asked one after another. With a
#'   `coordinator`: a character vector of what PostgreSQL's `dblink_connect()` takes, names of foreign servers or
#'   connection strings.
#' @param table Name of the table or view, the same on each, or a query in `DBI::SQL()`.
#' @param coordinator An open connection to a PostgreSQL server with the extension dblink, which asks the others. Its
#'   own rows don't count.
#' @param timeout Seconds after which a server that runs in a process of its own counts as failed; default 600. For open
#'   connections and a coordinator set one there, such as PostgreSQL's `statement_timeout`.
#' @return A `twin_remote`, for [frame_study()].
#' @section Errors: A server that fails or does not answer in time is asked twice more, over a new connection where it
#'   was given as a function; then `twin_error_database` names it, and nothing is half-done. `twin_error_input` when the
#'   tables have not the same columns. An `id` is checked to be unique on each server, not across them.
#' @family data
#' @examplesIf requireNamespace("RSQLite", quietly = TRUE)
#' half <- function(rows) {
#'   connection <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#'   DBI::dbWriteTable(connection, "crews", crews[rows, ])
#'   connection
#' }
#' shards <- list(north = half(1:1200), south = half(1201:2404))
#' study <- frame_study(remote_shards(shards, "crews"), treatment = "joined", outcome = "income",
#'                      covariates = c("boat_length", "crew_size", "port_size"))
#' study |> score_units() |> weigh_units() |> measure_effect()
#' for (connection in shards) DBI::dbDisconnect(connection)
#' @export
remote_shards <- function(shards, table, coordinator = NULL, timeout = 600) {
  call <- rlang::current_env()
  need_package("DBI", "read from a database", call)
  check_number(timeout, min = 0, open = TRUE)
  shards <- check_shards(shards, coordinator, call)
  if (!is.null(coordinator)) check_connection(coordinator, call)
  connections <- if (is.null(coordinator)) Filter(Negate(is.function), shards)
  for (connection in connections) check_connection(connection, call)
  first <- if (is.null(coordinator)) shards[[1L]] else coordinator
  opened <- if (is.function(first)) open_shard(first, names(shards)[1L], call) else first
  made <- Map(function(shard, name) {
    if (!is.null(coordinator)) linked_shard(coordinator, shard, name) else if (is.function(shard))
      process_shard(shard, name, timeout) else plain_shard(shard, name)
  }, shards, names(shards))
  source <- new_remote(opened, table, call, shards = made, look = is.null(coordinator))
  if (is.function(first)) {  # it was to look at the table, and its engine's name says how to quote
    DBI::dbDisconnect(opened)
    source["connection"] <- list(NULL)
  }
  check_same_columns(source, call)
  source
}

check_shards <- function(shards, coordinator, call) {
  plain <- is.list(shards) && !is.object(shards) && is.null(coordinator) &&
    all(vapply(shards, function(shard) is.function(shard) || inherits(shard, "DBIConnection"), NA))
  linked <- is.character(shards) && !anyNA(shards) && !is.null(coordinator)
  if (length(shards) == 0L || !(plain || linked)) {
    abort_input(c(
      "{.arg shards} must be a list of functions that connect, or of open DBI connections.",
      x = "It is {describe_value(shards)}.",
      i = "With a {.arg coordinator} it is a character vector of servers or connection strings."
    ), call = call)
  }
  shards <- as.list(shards)
  if (is.null(names(shards))) names(shards) <- paste("shard", seq_along(shards))
  if (anyDuplicated(names(shards)) > 0L || any(!nzchar(names(shards)))) {
    abort_input("Every shard needs a name of its own.", call = call)
  }
  shards
}

open_shard <- function(connect, name, call) {
  connection <- tryCatch(connect(), error = function(e) stop_shard(name, conditionMessage(e), call))
  check_connection(connection, call)
  connection
}

# A shard: name; send(sql), receive() giving a data frame or an error, and again(), before a statement is repeated.
# An open connection, which answers when it is asked.
plain_shard <- function(connection, name) {
  said <- NULL
  list(name = name, send = function(sql) said <<- sql, again = function() NULL,
       receive = function() suppressWarnings(answer_of(connection, said)))
}

# A connection in a process of its own, which ends with the session object.
process_shard <- function(connect, name, timeout) {
  need_package("callr", "ask servers at the same time")
  holder <- new.env(parent = emptyenv())
  ask <- answer_of
  environment(ask) <- baseenv()
  there <- function(connect, sql, ask) {
    if (is.null(.GlobalEnv$twin_shard)) .GlobalEnv$twin_shard <- connect() # nolint
    suppressWarnings(ask(.GlobalEnv$twin_shard, sql))
  }
  failed <- NULL
  list(
    name = name,
    send = function(sql) {
      failed <<- tryCatch({
        if (is.null(holder$session)) holder$session <- callr::r_session$new()
        holder$session$call(there, list(connect = connect, sql = sql, ask = ask))
        NULL
      }, error = function(e) e)
    },
    receive = function() {
      if (!is.null(failed)) stop(root_message(failed))
      if (holder$session$poll_process(min(1000 * timeout, .Machine$integer.max)) != "ready") {
        stop(sprintf("no answer within %s second%s", format(timeout), if (timeout == 1) "" else "s"))
      }
      answer <- holder$session$read()
      if (!is.null(answer$error)) stop(root_message(answer$error))
      answer$result
    },
    again = function() {
      if (!is.null(holder$session)) holder$session$kill()
      holder$session <- NULL
    }
  )
}

# What went wrong first, in the other process.
root_message <- function(e) {
  while (inherits(e$parent, "error")) e <- e$parent
  conditionMessage(e)
}

# A server that a coordinator asks through dblink; columns come as text, which loses no digit.
linked_shard <- function(coordinator, where, name) {
  link <- gsub("[^A-Za-z0-9_]", "_", paste0("twin_", name))
  quoted <- function(text) as.character(DBI::dbQuoteString(coordinator, text))
  ask <- function(...) suppressWarnings(answer_of(coordinator, sprintf(...)))
  width <- NULL
  failed <- NULL
  connect <- function() {
    ask("SELECT dblink_connect(%s, %s) WHERE NOT %s = ANY(COALESCE(dblink_get_connections(), ARRAY[]::text[]))",
        quoted(link), quoted(where), quoted(link))
  }
  list(
    name = name,
    send = function(sql) {
      failed <<- tryCatch({
        connect()
        width <<- attr(sql, "width")
        ask("SELECT dblink_send_query(%s, %s)", quoted(link), quoted(sql))
        NULL
      }, error = function(e) e)
    },
    receive = function() {
      if (!is.null(failed)) stop(conditionMessage(failed))
      columns <- paste(sprintf("c%d text", seq_len(width)), collapse = ", ")
      answer <- ask("SELECT * FROM dblink_get_result(%s) AS t(%s)", quoted(link), columns)
      ask("SELECT * FROM dblink_get_result(%s) AS t(%s)", quoted(link), columns)  # once more, to drain it
      answer
    },
    again = function() tryCatch(ask("SELECT dblink_disconnect(%s)", quoted(link)), error = function(e) NULL)
  )
}

# The first rows of a table that a coordinator sees through its links alone, in R's types.
linked_rows <- function(source, sql, call) {
  if (startsWith(source$from, "(")) {
    abort_unsupported(c("A coordinator needs the name of a table or view.", i = "Make a view of the query on each
                         server."), call = call)
  }
  text <- function(x) as.character(DBI::dbQuoteString(source$connection, x))
  name <- rev(gsub('^"|"$', "", strsplit(source$from, '"."', fixed = TRUE)[[1L]]))
  first <- list(shards = source$shards[1L], counter = source$counter)
  kinds <- ask_shards(first, sprintf(
    paste("SELECT column_name, data_type FROM information_schema.columns WHERE table_name = %s AND %s",
          "ORDER BY ordinal_position"),
    text(name[1L]), if (length(name) > 1L) sprintf("table_schema = %s", text(name[2L])) else
      "table_schema = ANY(current_schemas(false))"), c("row", "row"), call)
  if (nrow(kinds) == 0L) {
    abort_input("There is no table {.val {name[1L]}} on the server {.val {source$shards[[1L]]$name}}.", call = call)
  }
  rows <- ask_shards(first, sql, rep("row", nrow(kinds)), call)
  rows[] <- Map(function(column, kind) {
    if (grepl("int|numeric|real|double|decimal", kind)) return(as.numeric(column))
    if (kind == "boolean") return(column == "t")
    if (kind == "date") return(as.Date(column))
    if (startsWith(kind, "timestamp")) as.POSIXct(column, tz = "UTC") else column
  }, rows, kinds[[2L]])
  stats::setNames(rows, kinds[[1L]])
}

# combine: per column of the answer "sum", "min" or "max" of the shards' values, "key" for what groups rows, "row" where
# rows stand side by side.
ask_shards <- function(source, sql, combine, call) {
  attr(sql, "width") <- length(combine)
  answers <- vector("list", length(source$shards))
  asked <- seq_along(answers)
  for (attempt in 1:3) {
    for (k in asked) source$shards[[k]]$send(sql)
    answers[asked] <- lapply(source$shards[asked], function(shard) tryCatch(shard$receive(), error = identity))
    asked <- which(vapply(answers, inherits, NA, "error"))
    if (length(asked) == 0L) return(combined_answers(answers, combine))
    for (k in asked) source$shards[[k]]$again()
  }
  stop_shard(source$shards[[asked[1L]]]$name, conditionMessage(answers[[asked[1L]]]), call)
}

stop_shard <- function(name, said, call) {
  said <- without_secrets(said)
  abort_kind("database", c(
    "The server {.val {name}} did not answer.", x = "It says: {said}",
    i = "Nothing was written. See that it runs and can be reached, and start again."
  ), shard = name, call = call, .envir = environment())
}

combined_answers <- function(answers, combine) {
  answers <- lapply(answers, function(answer) {
    names(answer) <- paste0("c", seq_along(answer))
    numbers <- combine %in% c("sum", "min", "max")
    answer[numbers] <- lapply(answer[numbers], as_double)
    answer[!numbers] <- lapply(answer[!numbers], function(column) {
      if (inherits(column, "integer64")) as_double(column) else if (is.factor(column)) as.character(column) else column
    })
    answer
  })
  all <- do.call(rbind, answers)
  if (all(combine == "row")) return(all)
  keys <- all[combine == "key"]
  text <- if (length(keys) == 0L) rep("", nrow(all)) else
    do.call(paste, c(lapply(unname(keys), key_text), sep = "\r"))
  group <- match(text, unique(text))
  out <- all[!duplicated(group), , drop = FALSE]
  for (k in which(combine != "key")) {
    known <- !is.na(all[[k]])  # a server without rows has no sums
    value <- all[[k]][known]
    at <- group[known]
    out[[k]] <- NA_real_
    if (combine[k] == "sum") {
      total <- rowsum(value, at)
      out[[k]][as.integer(rownames(total))] <- total[, 1L]
    } else {
      places <- order(at, if (combine[k] == "min") value else -value)
      first <- places[!duplicated(at[places])]
      out[[k]][at[first]] <- value[first]
    }
  }
  rownames(out) <- NULL
  out
}

key_text <- function(key) ifelse(is.na(key), "\n", if (is.numeric(key)) sprintf("%.17g", key) else as.character(key))

check_same_columns <- function(source, call) {
  found <- tryCatch(lapply(source$shards, function(shard) {
    one <- list(shards = list(shard), counter = source$counter)
    ask_shards(one, sprintf("SELECT %s FROM %s WHERE 1 = 0",
                            paste(vapply(names(source$columns), quote_name, "", source = source), collapse = ", "),
                            source$from), rep("row", ncol(source$columns)), call)
  }), twin_error_database = function(e) e)
  if (!inherits(found, "error")) return(invisible(source))
  said <- cli::ansi_strip(rlang::cnd_message(found))
  if (!grepl("column", said, ignore.case = TRUE)) rlang::cnd_signal(found)
  abort_input(c("The tables of the shards must have the same columns.",
                x = "Server {.val {found$shard}} lacks some of {.val {names(source$columns)}}."), shard = found$shard,
              call = call)
}
