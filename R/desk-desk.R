# The state of an open desk, whoever looks at it: browser tabs come and go, and see the same.

# By step, what its answer is made of; a step is asked anew when that changes.
desk_parts <- list(question = "study", score = c("study", "designs"), designs = c("study", "designs", "report"),
                   power = c("study", "designs", "power"), effects = c("study", "designs", "effects", "report"),
                   bias = c("study", "designs", "effects", "probes"))

# path: where the plan stands (or would); saved: is it written there at every change? token: the page's.
new_desk <- function(plan, path, saved, token) {
  desk <- new.env(parent = emptyenv())
  desk$seen <- shiny::reactiveValues(history = new_history(plan), columns = NULL, job = NULL, stopped = FALSE,
                                     rebuilt = 0L, answers = list(), trouble = NULL)
  desk$path <- path
  desk$saved <- saved
  desk$token <- token
  desk$log <- previous_log(path)
  desk$worker <- NULL
  desk$progress <- tempfile("desk-progress-")
  desk
}

desk_plan <- function(desk) desk$seen$history$plan

# Takes a new plan: the past remembers the old one, the file is written. rebuild: do controls need to be drawn anew?
change_desk <- function(desk, plan, rebuild = FALSE) {
  shiny::isolate(take_history(desk, move_on(desk$seen$history, plan), rebuild))
}

take_history <- function(desk, history, rebuild = TRUE) {
  if (identical(history$plan, desk$seen$history$plan)) return(invisible(desk))
  desk$seen$history <- history
  desk$seen$stopped <- FALSE
  if (rebuild) desk$seen$rebuilt <- desk$seen$rebuilt + 1L
  if (desk$saved) write_text(plan_text(history$plan), desk$path)
  invisible(desk)
}

# What a step's answer hangs on; a report on all of the plan.
step_key <- function(plan, step) {
  parts <- if (step %in% names(desk_parts)) desk_parts[[step]] else names(plan)
  rlang::hash(plan[intersect(parts, names(plan))])
}

# The first step that has no answer yet and could have one, NULL for none.
next_step <- function(plan, answers, columns) {
  if (length(plan$study$data) == 0L) return(NULL)
  if (is.null(columns)) return("columns")
  asked <- lengths(plan$study[c("treatment", "outcome")]) > 0L
  if (!all(asked) || (length(plan$study$covariates) == 0L && is.null(plan$study$graph))) return(NULL)
  able <- c(question = TRUE, score = length(plan$designs) > 0L, designs = length(plan$designs) > 0L,
            power = length(plan$power) > 0L, effects = length(plan$effects) > 0L, bias = length(plan$probes) > 0L)
  if (length(answers$question$value$failed) > 0L) able[-1L] <- FALSE
  due <- names(able)[able & !vapply(names(able), function(step) {
    identical(answers[[step]]$key, step_key(plan, step))
  }, NA)]
  if (length(due) > 0L) due[1L]
}

# Called a few times a second while a browser looks on: hears the worker, and gives it the next job.
turn_desk <- function(desk) {
  seen <- desk$seen
  if (!is.null(seen$job)) hear_job(desk)
  if (!is.null(seen$job) || seen$stopped) return(invisible(desk))
  step <- next_step(desk_plan(desk), seen$answers, seen$columns)
  if (!is.null(desk$report)) step <- "report"
  if (is.null(step)) return(invisible(desk))
  if (is.null(desk$worker) || !desk$worker$is_alive()) desk$worker <- start_worker()
  unlink(desk$progress)
  job <- list(lines = plan_text(desk_plan(desk)), path = desk$path, step = step, log = desk$log,
              progress = desk$progress, out = desk$report)
  if (give_job(desk$worker, job)) {
    seen$job <- list(step = step, key = step_key(desk_plan(desk), step), started = Sys.time())
  }
}

hear_job <- function(desk) {
  told <- ask_worker(desk$worker)
  if (is.null(told)) return(invisible(desk))
  seen <- desk$seen
  job <- seen$job
  seen$job <- NULL
  if (isTRUE(told$lost) && !identical(desk$lost, job[c("step", "key")])) {  # asked once more, of another worker
    desk$lost <- job[c("step", "key")]
    return(invisible(desk))
  }
  value <- if (is.null(told$error)) told$value else
    list(html = "", verdict = "failed", failed = c(worker = told$error), log = desk$log)
  if (job$step == "columns") {
    seen$trouble <- value$failed
    if (length(value$failed) > 0L) seen$stopped <- TRUE else take_columns(desk, value)
  } else if (job$step == "report") {
    desk$report <- NULL
    seen$answers[["report"]] <- list(key = job$key, value = value)
  } else {
    seen$answers[[job$step]] <- list(key = job$key, value = value)
    keep_log(desk, value$log)
  }
}

# The columns are known: a plan without a question gets a guess, which the page says to check.
take_columns <- function(desk, columns) {
  desk$seen$columns <- columns
  plan <- desk_plan(desk)
  if (length(plan$study$treatment) > 0L || is.null(columns$roles)) {
    desk$seen$rebuilt <- desk$seen$rebuilt + 1L
    return(invisible(desk))
  }
  roles <- columns$roles
  guessed <- set_question(plan, c(list(treatment = roles$treatment, treated = treated_asked(columns, roles$treatment),
                                       outcome = roles$outcome,
                                       covariates = as.list(roles$covariates), estimand = "ATT", id = roles$id,
                                       weight = roles$weight, cluster = roles$cluster, missing = "flag")))
  change_desk(desk, guessed, rebuild = TRUE)
}

# The value that a plan should name: of TRUE and FALSE, or 1 and 0, it is known.
treated_asked <- function(columns, treatment) {
  levels <- columns$levels[[treatment]]
  if (!all(levels %in% c("TRUE", "FALSE", "0", "1"))) treated_guess(levels)
}

stop_desk_job <- function(desk) {
  stop_worker(desk$worker)
  desk$worker <- NULL
  desk$report <- NULL
  desk$seen$job <- NULL
  desk$seen$stopped <- TRUE
}

# The logbook of a desk stands beside its plan, so that designs tried after the outcome was seen are counted whenever
# the desk is opened again.
log_path <- function(path) sub("([.]ya?ml)?$", "-logbook.csv", path)

previous_log <- function(path) {
  file <- log_path(path)
  if (file.exists(file)) read_log(file)
}

keep_log <- function(desk, log) {
  if (is.null(log) || identical(log, desk$log)) return(invisible(desk))
  desk$log <- log
  if (desk$saved) write_csv(log, log_path(desk$path))
}

# How far the job is: a sentence, NULL for nothing to say.
job_words <- function(desk) {
  job <- desk$seen$job
  if (is.null(job)) return(NULL)
  told <- if (file.exists(desk$progress)) utils::tail(readLines(desk$progress, warn = FALSE), 1L)
  seconds <- as.numeric(difftime(Sys.time(), job$started, units = "secs"))
  what <- desk_titles[[job$step]]
  if (length(told) == 1L) return(paste0(what, ": ", told))
  if (seconds < 1) paste0(what, " ...") else sprintf("%s ... %.0f s", what, seconds)
}

desk_titles <- c(columns = "Reading the data", question = "Question and groups", score = "Score and overlap",
                 designs = "Designs", power = "Power", effects = "Effects", bias = "Hidden bias",
                 report = "Report and paper")
