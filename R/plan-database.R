# Data that a plan names in a database: `data: {connect: sqlite, file: crews.sqlite, table: crews}`. A plan holds no
# credentials: servers are named by the service or group of the driver's own file, and a user's name or password by its
# environment.

database_keys <- c("connect", "file", "service", "group", "table", "query")

# One entry per engine: package, keys it needs, and how it connects.
database_doors <- list(
  sqlite = list(package = "RSQLite", needs = "file", connect = function(settings) {
    DBI::dbConnect(RSQLite::SQLite(), settings$file, flags = RSQLite::SQLITE_RO)
  }),
  postgres = list(package = c("RPostgres", "RPostgreSQL"), needs = "service", connect = function(settings) {
    if (rlang::is_installed("RPostgres")) {
      return(DBI::dbConnect(getExportedValue("RPostgres", "Postgres")(), service = settings$service))
    }
    DBI::dbConnect(RPostgreSQL::PostgreSQL(), dbname = paste0("service=", settings$service))
  }),
  mariadb = list(package = c("RMariaDB", "RMySQL"), needs = "group", connect = function(settings) {
    if (rlang::is_installed("RMariaDB")) {
      return(DBI::dbConnect(getExportedValue("RMariaDB", "MariaDB")(), group = settings$group))
    }
    DBI::dbConnect(RMySQL::MySQL(), group = settings$group)
  })
)

# A twin_remote for the settings under `data:`. Closed when the command ends: see close_databases().
plan_database <- function(plan, part, settings) {
  place <- c(part, "data")
  check_keys(settings, database_keys, plan, place)
  engine <- settings$connect
  if (!is.character(engine) || length(engine) != 1L || !engine %in% names(database_doors)) {
    abort_plan(plan, place, c("{.code connect} must be one of {.val {names(database_doors)}}.",
                              x = "It is {describe_value(engine)}."))
  }
  door <- database_doors[[engine]]
  given <- intersect(c("table", "query"), names(settings))
  if (!is.character(settings[[door$needs]]) || length(given) != 1L) {
    abort_plan(plan, place, "Data in {engine} need {.code {door$needs}} and one of {.code table} and {.code query}.")
  }
  at_place(plan, place, {
    installed <- vapply(door$package, rlang::is_installed, NA)
    if (!any(installed)) need_package(door$package[1L], paste("connect to", engine))
    if (engine == "sqlite") {
      settings$file <- beside_plan(plan, settings$file)
      if (!file.exists(settings$file)) {
        abort_file(c("There is no file {.file {settings$file}}.", i = "Paths are taken from the plan's folder."),
                   path = settings$file, call = NULL)
      }
    }
    id <- rlang::hash(settings[setdiff(names(settings), given)])
    kept <- open_databases$all[[id]]  # studies of one database share its connection
    connection <- if (!is.null(kept) && DBI::dbIsValid(kept)) kept
    if (is.null(connection)) connection <- tryCatch(door$connect(settings), error = function(e) {
      abort_kind("database", c("Can't connect to {engine} as the plan says.", x = without_secrets(conditionMessage(e)),
                               i = "Look at the driver's service or option file, and at the server."), call = NULL,
                 .envir = environment())
    })
    open_databases$all[[id]] <- connection
    remote_units(connection, if (is.null(settings$query)) settings$table else DBI::SQL(settings$query))
  })
}

open_databases <- new.env(parent = emptyenv())

close_databases <- function() {
  for (connection in open_databases$all) try(suppressWarnings(DBI::dbDisconnect(connection)), silent = TRUE)
  open_databases$all <- list()
}
