# Real database servers on free ports of 127.0.0.1, for the tests of tables in a database: started when they are first
# asked for, gone with the session. NULL where the engine is not installed or can't be started here.

servers <- new.env()

# Servers stop when the process ends.
stop_at_end <- function(stop) reg.finalizer(new_holder(stop), function(holder) holder$stop(), onexit = TRUE)

new_holder <- function(stop) {
  holder <- new.env()
  holder$stop <- stop
  servers$holders <- c(servers$holders, list(holder))
  holder
}

free_port <- function() {
  for (port in sample(20000:45000, 50)) {
    open <- tryCatch(suppressWarnings(socketConnection("127.0.0.1", port, open = "r", timeout = 1)), error = function(e) NULL)
    if (is.null(open)) return(port)
    close(open)
  }
}

run_quietly <- function(command) suppressWarnings(system(paste(command, ">/dev/null 2>&1"))) == 0L

# As root the engines want a user of their own.
as_engine <- function(user, command) {
  if (Sys.info()[["user"]] == "root") sprintf("runuser -u %s -- %s", user, command) else command
}

engine_folder <- function(user) {
  folder <- tempfile("engine-", tmpdir = "/tmp")
  dir.create(folder)
  if (Sys.info()[["user"]] == "root") run_quietly(sprintf("chown %s %s", user, folder))
  folder
}

postgres_server <- function(name = "postgres") {
  if (!is.null(servers[[name]])) return(servers[[name]])
  programs <- Sys.glob("/usr/lib/postgresql/*/bin/initdb")
  if (length(programs) == 0L || !requireNamespace("RPostgreSQL", quietly = TRUE)) return(NULL)
  bin <- dirname(programs[length(programs)])
  folder <- engine_folder("postgres")
  data <- file.path(folder, "data")
  port <- free_port()
  made <- run_quietly(as_engine("postgres", sprintf("%s/initdb -D %s -U twin --auth=trust --locale=C -E UTF8", bin, data)))
  if (!made) return(NULL)
  cat(sprintf("listen_addresses='127.0.0.1'\nport=%d\nunix_socket_directories='%s'\nfsync=off\n", port, folder),
      file = file.path(data, "postgresql.auto.conf"), append = TRUE)
  started <- run_quietly(as_engine("postgres", sprintf("%s/pg_ctl -D %s -l %s/log -w start", bin, data, folder)))
  if (!started) return(NULL)
  stop_server <- as_engine("postgres", sprintf("%s/pg_ctl -D %s -m immediate stop", bin, data))
  stop_at_end(function() {
    run_quietly(stop_server)
    unlink(folder, recursive = TRUE)
  })
  servers[[name]] <- list(port = port, stop = function() run_quietly(stop_server), connect = function() {
    DBI::dbConnect(RPostgreSQL::PostgreSQL(), host = "127.0.0.1", port = port, user = "twin", dbname = "postgres")
  })
  servers[[name]]
}

mariadb_server <- function() {
  if (!is.null(servers$mariadb)) return(servers$mariadb)
  if (Sys.which("mariadbd") == "" || !requireNamespace("RMySQL", quietly = TRUE)) return(NULL)
  folder <- engine_folder("mysql")
  data <- file.path(folder, "data")
  port <- free_port()
  made <- run_quietly(sprintf("mariadb-install-db --no-defaults --user=mysql --datadir=%s --auth-root-authentication-method=normal",
                              data))
  if (!made) return(NULL)
  pid <- file.path(folder, "pid")
  system(sprintf(paste("mariadbd --no-defaults --user=mysql --datadir=%s --bind-address=127.0.0.1 --port=%d --socket=%s/s",
                       "--pid-file=%s --local-infile=1 --skip-log-bin >%s/log 2>&1"), data, port, folder, pid, folder),
         wait = FALSE)
  connect <- function(dbname = "twin") {
    DBI::dbConnect(RMySQL::MySQL(), host = "127.0.0.1", port = port, user = "root", password = "", dbname = dbname)
  }
  for (try in 1:60) {
    root <- tryCatch(suppressWarnings(connect("mysql")), error = function(e) NULL)
    if (!is.null(root)) break
    Sys.sleep(0.25)
  }
  stop_at_end(function() {
    if (file.exists(pid)) run_quietly(sprintf("kill %s", readLines(pid)))
    Sys.sleep(0.5)
    unlink(folder, recursive = TRUE)
  })
  if (is.null(root)) return(NULL)
  DBI::dbExecute(root, "CREATE DATABASE twin CHARACTER SET utf8mb4")
  DBI::dbDisconnect(root)
  servers$mariadb <- list(port = port, connect = connect)
  servers$mariadb
}

# A table in a fresh connection to the engine; skipped where the engine is not here. Returns the connection.
with_table <- function(engine, data, name = "crews", env = parent.frame()) {
  connection <- switch(engine,
    sqlite = {
      skip_if_not_installed("RSQLite")
      DBI::dbConnect(RSQLite::SQLite(), ":memory:")
    },
    postgres = {
      server <- postgres_server()
      if (is.null(server)) skip("PostgreSQL is not installed here (tools/setup test installs it on Debian)")
      server$connect()
    },
    mariadb = {
      server <- mariadb_server()
      if (is.null(server)) skip("MariaDB is not installed here (tools/setup test installs it on Debian)")
      server$connect()
    }
  )
  withr::defer(suppressWarnings(DBI::dbDisconnect(connection)), env)
  if (DBI::dbExistsTable(connection, name)) DBI::dbRemoveTable(connection, name)
  if (engine == "mariadb") {  # its driver writes TRUE as 0
    data[] <- lapply(data, function(column) if (is.logical(column)) as.integer(column) else column)
  }
  DBI::dbWriteTable(connection, name, data, row.names = FALSE)
  connection
}
