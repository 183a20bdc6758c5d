# What helps at the command line: an overview, help on a command, verb or plan part, keys of plans, completion.

overview_lines <- function(commands) {
  c("twin: compare treated and control units, and convince a referee.", "",
    "  first time        twin demo, then open twin-demo/results/report.html",
    "  your own data     twin draft DATA, look at plan.yml, then twin describe,",
    "                    twin balance and twin run plan.yml", "",
    usage_lines(commands)[-(1:2)], "",
    "twin help NAME tells more of a command, a verb or a part of a plan.")
}

command_help <- function(flags, args) {
  commands <- twin_commands()
  if (length(args) == 0L) {
    writeLines(usage_lines(commands))
    return(0L)
  }
  name <- args[1L]
  if (name %in% names(commands)) {
    optparse::print_help(command_parser(name, commands[[name]]))
    return(0L)
  }
  if (name %in% as.data.frame(plan_reference())$part) {
    print(plan_reference(name))
    return(0L)
  }
  shown <- help_lines(name)
  if (is.null(shown)) {
    verbs <- sort(getNamespaceExports("carefultwin"))
    near <- nearest_name(name, c(names(commands), verbs))
    abort_input(c("There is no help on {.val {name}}.", i = if (is.null(near))
      "Commands are {.val {names(commands)}}; verbs are those of the R package, such as {.val pair_units}." else
        "Did you mean {.val {near}}?"), call = NULL)
  }
  writeLines(shown)
  0L
}

command_keys <- function(flags, args) {
  print(if (length(args) == 0L) plan_reference() else plan_reference(args[1L]))
  0L
}

# The help page of a verb as text; NULL where there is none.
help_lines <- function(name) {
  page <- help_pages()[[paste0(name, ".Rd")]]
  if (is.null(page)) return(NULL)
  lines <- utils::capture.output(tools::Rd2txt(page, options = list(underline_titles = FALSE, width = 78L)))
  gsub(".\b", "", lines)  # no overstriking
}

# For bash: source <(twin completion)
command_completion <- function(flags, args) {
  commands <- twin_commands()
  cases <- vapply(names(commands), function(name) {
    flags <- vapply(commands[[name]][["options"]], function(option) option@long_flag, "")
    sprintf("    %s) words=\"%s\" ;;", name, paste(c(flags, "--help"), collapse = " "))
  }, "")
  writeLines(c(
    "_twin() {", "  local word=${COMP_WORDS[COMP_CWORD]} words=", "  if [ \"$COMP_CWORD\" = 1 ]; then",
    sprintf("    COMPREPLY=($(compgen -W \"%s\" -- \"$word\"))", paste(names(commands), collapse = " ")),
    "    return", "  fi", "  case ${COMP_WORDS[1]} in", cases, "  esac", "  if [[ $word == -* ]]; then",
    "    COMPREPLY=($(compgen -W \"$words\" -- \"$word\"))", "  else",
    "    COMPREPLY=($(compgen -f -- \"$word\"))", "  fi", "}", "complete -o filenames -F _twin twin"
  ))
  0L
}
