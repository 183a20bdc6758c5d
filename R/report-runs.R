# What a run leaves for later ones to be compared with, and how two runs differ.

facts_file <- "run-facts.yml"

# parts: as the report has them; data: path of the file that was read.
run_facts <- function(parts, data) {
  study <- parts$study
  list(
    version = as.character(utils::packageVersion("carefultwin")), made = format(Sys.time(), "%Y-%m-%d %H:%M:%S"),
    data = if (is_remote(study)) {
      used <- stats::nobs(study)
      list(file = study$source$label, md5 = if (is.null(parts$panel)) rlang::hash(study$rows$check) else study$hash,
           rows = used + sum(study$dropped), used = used)
    } else {
      list(file = basename(data), md5 = unname(tools::md5sum(data)), rows = nrow(study$data), used = length(study$rows))
    },
    fingerprint = study$hash,
    balance = lapply(parts$balances, function(balance) {
      s <- generics::glance(balance)[1L, ]
      list(design = balance$design, passing = s$passing, rows = s$rows,
           worst_smd = if (is.null(s$worst_smd)) s$worst_correlation else s$worst_smd,
           worst_covariate = s$worst_covariate)
    }),
    effects = unlist(unname(Map(effect_facts, parts$effects, names(parts$effects))), recursive = FALSE)
  )
}

# One entry per number: a set of effects has several.
effect_facts <- function(effect, name) {
  if (inherits(effect, "twin_effects")) {
    return(unlist(unname(Map(effect_facts, effect$effects, paste(name, names(effect), sep = ": "))), recursive = FALSE))
  }
  row <- if (inherits(effect, "twin_response")) cbind(effect$contrasts[1L, ], term = effect$contrasts$contrast[1L]) else
    if (inherits(effect, "twin_course_effect")) cbind(effect$effects[1L, ], term = effect$effects$history[1L]) else
      main_row(effect)
  numbers <- row[c("estimate", "std.error", "conf.low", "conf.high")]
  stats::setNames(list(c(list(outcome = effect$outcome, term = row$term), as.list(numbers))), name)
}

write_run_facts <- function(folder, parts, plan) {
  path <- plan[[if (is.null(parts$panel)) "study" else "panel"]]$data
  facts <- run_facts(parts, if (!is_remote(parts$study)) path_from(path, dirname(plan$path)))
  write_text(sub("\n$", "", yaml::as.yaml(facts, precision = 15L)), file.path(folder, facts_file))
}

#' Compare two runs
#'
#' What changed between two folders of results of `twin run`: in the plan, in the data (content, rows, rows used), in
#' the balance of every design and in every effect. On the command line `twin compare OLD NEW`.
#'
#' @param old,new Folders of results, each with the files `plan.yml` and `run-facts.yml` that every run leaves.
#' @return A `twin_run_comparison`. `as.data.frame()` gives one row per change: `part` ("plan", "data", "balance" or
#'   "effect"), `what`, `old`, `new` (as text, `NA` where it is not there).
#' @section Errors: `twin_error_file` for folders without these files.
#' @family out
#' @examples
#' folder <- tempfile()
#' dir.create(folder)
#' columns <- c("joined", "income", "boat_length", "past_income")
#' write_units(crews[columns], file.path(folder, "crews.csv"))
#' plan <- file.path(folder, "plan.yml")
#' writeLines(c(
#'   "study: {data: crews.csv, treatment: joined, outcome: income, covariates: [boat_length, past_income]}",
#'   "effects: {raw: {}}"
#' ), plan)
#' invisible(utils::capture.output(twin_main(c("run", plan))))
#' compare_runs(file.path(folder, "results"), file.path(folder, "results"))
#' @export
compare_runs <- function(old, new) {
  runs <- list(old = read_run(old), new = read_run(new))
  structure(list(rows = compare_facts(runs$old, runs$new), made = vapply(runs, function(run) run$facts$made, "")),
            class = "twin_run_comparison")
}

# One row per change between two runs: list(plan, facts) each.
compare_facts <- function(old, new) {
  rbind(
    changed_rows("plan", flat_plan(old$plan), flat_plan(new$plan)),
    changed_rows("data", data_words(old$facts), data_words(new$facts)),
    changed_rows("balance", balance_facts(old$facts), balance_facts(new$facts)),
    changed_rows("effect", effect_texts(old$facts), effect_texts(new$facts))
  )
}

read_run <- function(folder, call = rlang::caller_env()) {
  check_string(folder, arg = "folder", call = call)
  if (!validUTF8(folder)) abort_file("The name of the folder is not valid text.", path = folder, call = call)
  names <- c("plan.yml", facts_file)
  files <- file.path(folder, names)
  if (!all(file.exists(files))) {
    abort_file(c("{.file {folder}} is not a folder of results.",
                 x = "There is no {.file {names[!file.exists(files)]}} in it.",
                 i = "{.code twin run} leaves one."), path = folder, call = call)
  }
  read <- lapply(files, function(file) {
    tryCatch(yaml::read_yaml(file, eval.expr = FALSE), error = function(e) {
      abort_file(c("Can't read {.file {file}}.", x = "{conditionMessage(e)}"), path = file, call = call)
    })
  })
  if (!is.list(read[[2L]]) || !all(c("made", "data") %in% names(read[[2L]]))) {
    abort_file(c("{.file {files[2L]}} does not hold the facts of a run.", i = "Run the plan again."), path = files[2L],
               call = call)
  }
  list(plan = read[[1L]], facts = read[[2L]])
}

# Each setting of a plan by its path.
flat_plan <- function(plan, path = NULL) {
  steps <- is.list(plan) && is.null(names(plan)) && any(vapply(plan, is.list, NA))
  if (steps) names(plan) <- paste("step", seq_along(plan))
  if (!is.list(plan) || is.null(names(plan))) {
    text <- if (is.list(plan)) gsub("\n", ", ", trimws(yaml::as.yaml(plan)), fixed = TRUE) else
      paste(plan, collapse = ", ")
    return(stats::setNames(text, paste(path, collapse = " > ")))
  }
  unlist(unname(Map(function(part, name) flat_plan(part, c(path, name)), plan, names(plan))))
}

data_words <- function(facts) {
  c(file = facts$data$file, content = substr(facts$data$md5, 1L, 8L), rows = count_text(facts$data$rows),
    "rows used" = count_text(facts$data$used), version = facts$version)
}

balance_facts <- function(facts) {
  vapply(facts$balance, function(one) {
    sprintf("%s: %d of %d rows pass, worst |SMD| %s (%s)", one$design, one$passing, one$rows,
            number_text(one$worst_smd), one$worst_covariate)
  }, "")
}

effect_texts <- function(facts) {
  vapply(facts$effects, function(one) {
    sprintf("%s (%s)", number_text(one$estimate), interval_text(as.numeric(one$conf.low), as.numeric(one$conf.high)))
  }, "")
}

changed_rows <- function(part, old, new) {
  what <- union(names(old), names(new))
  of <- function(texts) unname(if (length(texts) == 0L) rep(NA_character_, length(what)) else texts[what])
  rows <- data.frame(part = rep(part, length(what)), what = as.character(what), old = of(old), new = of(new))
  same <- (is.na(rows$old) & is.na(rows$new)) | (!is.na(rows$old) & !is.na(rows$new) & rows$old == rows$new)
  rows[!same, ]
}

#' @export
as.data.frame.twin_run_comparison <- function(x, ...) {
  rows <- x$rows
  rownames(rows) <- NULL
  rows
}

#' @export
format.twin_run_comparison <- function(x, ...) {
  rlang::check_dots_empty()
  head <- sprintf("Old: made %s. New: made %s.", x$made[["old"]], x$made[["new"]])
  if (nrow(x$rows) == 0L) {
    return(c(head, "", wrap_lines("Nothing changed: plan, data, balance and effects are the same.")))
  }
  words <- c(plan = "Plan", data = "Data", balance = "Balance", effect = "Effects")
  blocks <- lapply(names(words), function(part) {
    rows <- x$rows[x$rows$part == part, ]
    if (nrow(rows) == 0L) return(c(sprintf("%s: the same", words[[part]])))
    c(sprintf("%s: %s", words[[part]], plural(nrow(rows), "change")), unlist(lapply(seq_len(nrow(rows)), function(i) {
      change <- change_words(rows$old[i], rows$new[i])
      wrap_lines(sprintf("%s: %s", rows$what[i], change), 2L)
    })))
  })
  c(head, unlist(lapply(blocks, function(block) c("", block))))
}

change_words <- function(old, new) {
  if (is.na(old)) return(paste("new:", new))
  if (is.na(new)) return(paste("gone; it was", old))
  paste(old, "->", new)
}

#' @export
print.twin_run_comparison <- function(x, ...) print_lines(x, format(x, ...))
