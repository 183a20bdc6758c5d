# The commands. Each is a function of parsed options and arguments that returns an exit status.

command_run <- function(flags, args) {
  out <- if (is.null(flags$out)) beside(args, "results") else flags$out
  run_plan(args, out, flags$strict)
}

command_demo <- function(flags, args) {
  folder <- if (is.null(flags$out)) "twin-demo" else flags$out
  if (flags$panel && flags$database) {
    abort_input("Give --panel or --database, not both: the panel's demo has rows in memory.", call = NULL)
  }
  if (flags$database) need_package("RSQLite", "make the demo's database")
  make_folder(folder)
  files <- if (flags$panel) c("harbours.csv", "panel.yml") else
    c("crews.csv", if (flags$database) "database.yml" else "plan.yml")
  names(files) <- c(files[1L], "plan.yml")
  for (name in names(files)) {
    source <- system.file("extdata", files[[name]], package = "carefultwin")
    write_whole(file.path(folder, name), function(path) stopifnot(file.copy(source, path, overwrite = TRUE)),
                function(path) file.size(path) == file.size(source))
  }
  if (flags$database) write_demo_database(file.path(folder, "crews.csv"), file.path(folder, "crews.sqlite"))
  status <- run_plan(file.path(folder, "plan.yml"), file.path(folder, "results"), strict = FALSE)
  if (status == 0L) {
    writeLines(c("", "The data are simulated, so the truth is known and marked in the report.",
                 paste("The plan behind it:", file.path(folder, "plan.yml")),
                 "Your own data: twin draft DATA, then look at the plan it writes."))
  }
  status
}

# The demo's rows as a table in an SQLite file; TRUE and FALSE are 1 and 0 there.
write_demo_database <- function(data, file) {
  rows <- as.data.frame(read_units(data))
  kinds <- vapply(rows, is.factor, NA)
  rows[kinds] <- lapply(rows[kinds], as.character)
  write_whole(file, function(path) {
    connection <- DBI::dbConnect(RSQLite::SQLite(), path)
    on.exit(DBI::dbDisconnect(connection))
    DBI::dbWriteTable(connection, "crews", rows)
  }, function(path) file.size(path) > 0)
}

# A neighbour of a file, without a leading "./".
beside <- function(file, name) if (dirname(file) == ".") name else file.path(dirname(file), name)

command_describe <- function(flags, args) describe_plan(read_plan(args))

command_balance <- function(flags, args) balance_plan(read_plan(args), flags$strict)

command_desk <- function(flags, args) {
  open_desk(if (length(args) > 0L) args, demo = flags$demo, port = flags$port, idle = flags$idle, browse = !flags$quiet)
  0L
}

command_compare <- function(flags, args) {
  print(compare_runs(args[1L], args[2L]))
  0L
}

command_version <- function(flags, args) {
  writeLines(paste("twin", utils::packageVersion("carefultwin")))
  0L
}

command_draft <- function(flags, args) {
  reading <- Filter(Negate(is.null), flags[c("encoding", "sheet")])
  data <- do.call(read_units, c(list(args), reading))
  plan <- if (is.null(flags$out)) beside(args, "plan.yml") else flags$out
  if (file.exists(plan) && !flags$force) {
    abort_file(c("{.file {plan}} is there already.", i = "Use --out for another name, or --force to replace it."),
               path = plan, call = NULL)
  }
  data_path <- if (dirname(args) == dirname(plan)) basename(args) else normalizePath(args)
  drafted <- draft_plan(data, data_path, reading, flags)
  write_text(drafted$lines, plan)
  writeLines(c(sprintf("Wrote %s.", plan), unlist(lapply(drafted$told, strwrap, 80)),
               sprintf("Next: twin describe %s", plan)))
  0L
}
