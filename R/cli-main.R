# The command line `twin`. Every command is a function of parsed options that returns an exit status: 0 done, 1 the
# analysis could not be done (or, with --strict, balance failed), 2 wrong usage or bad input.

twin_commands <- function() {
  out <- function(help) optparse::make_option("--out", type = "character", default = NULL, metavar = "DIR", help = help)
  strict <- optparse::make_option("--strict", action = "store_true", default = FALSE,
                                  help = "Exit with 1 when a row of a balance table, or the test of trends, fails")
  list(
    demo = list(run = command_demo, argument = NULL, about = "Try everything on made-up data (--panel, --database)",
                options = list(out("Folder for data, plan and results [default: twin-demo]"),
                               optparse::make_option("--panel", action = "store_true", default = FALSE,
                                                     help = "The panel of harbours in place of the crews"),
                               optparse::make_option("--database", action = "store_true", default = FALSE,
                                                     help = "The crews as a table in a database (SQLite)"))),
    draft = list(run = command_draft, argument = "DATA", about = "Write a starting plan after looking at the columns",
                 options = list(
                   optparse::make_option("--out", type = "character", default = NULL, metavar = "PLAN",
                                         help = "The plan to write [default: plan.yml beside the data]"),
                   optparse::make_option("--encoding", type = "character", default = NULL, metavar = "NAME",
                                         help = "Of a text file: UTF-8 or latin1 [default: UTF-8]"),
                   optparse::make_option("--sheet", type = "character", default = NULL, metavar = "NAME",
                                         help = "Of an Excel file [default: the first]"),
                   optparse::make_option("--panel", action = "store_true", default = FALSE,
                                         help = "These are units over time [default: as the columns look]"),
                   optparse::make_option("--study", action = "store_true", default = FALSE,
                                         help = "They are not, whatever the columns look like"),
                   optparse::make_option("--course", action = "store_true", default = FALSE,
                                         help = "Over time, with treatment that comes and goes"),
                   optparse::make_option("--dose", type = "character", default = NULL, metavar = "COLUMN",
                                         help = "Units have more or less of this column"),
                   optparse::make_option("--force", action = "store_true", default = FALSE,
                                         help = "Replace a plan that is there already"))),
    describe = list(run = command_describe, argument = "PLAN", about = "Show the question and both groups",
                    options = list()),
    balance = list(run = command_balance, argument = "PLAN",
                   about = "Make the designs, judge balance; outcome stays sealed",
                   options = list(strict)),
    run = list(run = command_run, argument = "PLAN",
               about = "Do all of it: tables, figures, report into a folder",
               options = list(out("Folder for the results [default: results beside the plan]"), strict)),
    desk = list(run = command_desk, argument = "[FILE]", about = "Do all of it on a local page, without a script",
                options = list(
                  optparse::make_option("--demo", action = "store_true", default = FALSE, help = "With made-up data"),
                  optparse::make_option("--port", type = "integer", default = NULL, metavar = "N",
                                        help = "Where to listen on this machine [default: any free port]"),
                  optparse::make_option("--idle", type = "double", default = 2, metavar = "MIN",
                                        help = "Minutes to stay after the browser is closed [default: 2]"),
                  optparse::make_option("--quiet", action = "store_true", default = FALSE,
                                        help = "Say the address and open no browser"))),
    compare = list(run = command_compare, argument = c("OLD", "NEW"),
                   about = "Say what changed between the results of two runs", options = list()),
    keys = list(run = command_keys, argument = "[PART]", about = "List the keys of a plan, with defaults",
                options = list()),
    help = list(run = command_help, argument = "[NAME]", about = "Tell more of a command, a verb or a part of a plan",
                options = list()),
    completion = list(run = command_completion, argument = NULL,
                      about = "Completion for bash: source <(twin completion)", options = list()),
    version = list(run = command_version, argument = NULL, about = "Say which version this is", options = list())
  )
}

#' Run the command line
#'
#' What `exec/twin` calls: parses the arguments, runs one command and returns its exit status. Errors go to standard
#' error in one block.
#'
#' @param args Character vector, as typed after `twin`.
#' @return The exit status: 0 done; 1 the analysis could not be done or, with `--strict`, balance failed; 2 wrong usage
#'   or bad input.
#' @family out
#' @examples
#' twin_main("--help")
#' @export
twin_main <- function(args = commandArgs(trailingOnly = TRUE)) {
  commands <- twin_commands()
  if (length(args) == 0L) {
    writeLines(overview_lines(commands))
    return(0L)
  }
  name <- args[1L]
  if (name %in% c("--help", "-h")) name <- "help"
  if (!name %in% names(commands)) {
    near <- nearest_name(name, names(commands))
    complain(c(sprintf("twin: there is no command \"%s\".%s", name, if (is.null(near)) "" else
      sprintf(" Did you mean \"%s\"?", near)), usage_lines(commands)))
    return(2L)
  }
  run_command(name, commands[[name]], args[-1L])
}

usage_lines <- function(commands) {
  c("usage: twin COMMAND [options]", "",
    sprintf("  twin %-17s %s", paste(names(commands), vapply(commands, function(command) {
      paste(command$argument, collapse = " ")
    }, "")), vapply(commands, `[[`, "", "about")),
    "", "twin COMMAND --help tells more. Exit status: 0 done; 1 the analysis could not be",
    "done or, with --strict, balance failed; 2 wrong usage or bad input.")
}

command_parser <- function(name, command) {
  optparse::OptionParser(
    usage = paste(c("twin", name, command$argument, "[options]"), collapse = " "),
    description = command$about, option_list = command$options, prog = "twin"
  )
}

run_command <- function(name, command, args) {
  parser <- command_parser(name, command)
  parsed <- tryCatch(
    optparse::parse_args(parser, args, print_help_and_exit = FALSE, positional_arguments = TRUE),
    error = function(e) sub("^Error[^:]*: ", "", conditionMessage(e))
  )
  if (is.character(parsed)) return(usage_error(name, parsed))
  if (isTRUE(parsed$options$help)) {
    optparse::print_help(parser)
    return(0L)
  }
  wanted <- length(command$argument)
  optional <- wanted == 1L && startsWith(command$argument, "[")
  if (length(parsed$args) != wanted && !(optional && length(parsed$args) == 0L)) {
    number <- if (optional) "at most one argument" else c("one argument", "two arguments")[wanted]
    return(usage_error(name, if (wanted == 0L) "it takes no argument." else
      sprintf("it takes %s, %s; %d given.", number, and_list(command$argument), length(parsed$args))))
  }
  guarded(name, command$run(parsed$options, parsed$args), name == "demo" || identical(command$argument, "PLAN"))
}

usage_error <- function(name, message) {
  complain(c(sprintf("twin %s: %s", name, message), sprintf("Try: twin %s --help", name)))
  2L
}

# One line that says what is done, how far, and how long it will take; nothing where it takes less than two seconds.
terminal_progress <- function() {
  shown <- 0L
  say <- function(text) {
    cat("\r", text, strrep(" ", max(0L, shown - nchar(text))), sep = "", file = stderr())
    shown <<- nchar(text)
  }
  started <- NULL
  progressr::make_progression_handler("twin", reporter = list(
    initiate = function(...) started <<- Sys.time(),
    update = function(config, state, progression, ...) {
      passed <- as.numeric(difftime(Sys.time(), started, units = "secs"))
      if (passed < 2 || state$step == 0L) return(invisible())
      say(progress_line(state$message, state$step / config$max_steps, passed))
    },
    finish = function(...) if (shown > 0L) cat("\r", strrep(" ", shown), "\r", sep = "", file = stderr())
  ), enable = TRUE, intrusiveness = 1, target = "terminal")
}

# Runs a command; errors become one block on stderr, warnings a line or two each, told once. in_plan: should hints be in
# a plan's words?
guarded <- function(name, expr, in_plan) {
  # lines are broken here, once
  rlang::local_options(cli.width = 10000L, progressr.handlers = list(terminal_progress()),
                       progressr.enable = isTRUE(getOption("progressr.enable")) || isatty(stderr()))
  told <- character()
  on.exit(close_databases())
  tryCatch(
    withCallingHandlers(within_memory(expr), warning = function(w) {
      lines <- message_lines(w, in_plan)
      if (!paste(lines, collapse = "\n") %in% told) complain(c("note:", paste0("  ", lines)))
      told <<- c(told, paste(lines, collapse = "\n"))
      rlang::cnd_muffle(w)
    }),
    twin_error = function(e) {
      complain(c(sprintf("twin %s: can't go on.", name), paste0("  ", message_lines(e, in_plan))))
      if (inherits(e, c("twin_error_input", "twin_error_file"))) 2L else 1L
    },
    interrupt = function(e) {
      complain(sprintf("twin %s: interrupted; nothing was written.", name))
      1L
    },
    error = function(e) {
      complain(c(sprintf("twin %s: something went wrong that should not have. Please report it:", name),
                 paste0("  ", message_lines(e, in_plan))))
      1L
    }
  )
}
