# The state of an open desk, whoever looks at it: browser tabs come and go, and see the same.

# Jobs of the worker that are no steps of the page.
desk_jobs <- c("columns", "report", "comparison", "help")

# Headings of steps and jobs, in order.
step_titles <- function(plan) {
  c(columns = "Reading the data", vapply(plan_step_views(plan), `[[`, "", "title"), report = "Report and paper",
    comparison = "Comparing two plans", help = "Reading the help pages")
}

# path: where the plan stands (or would); saved: is it written there at every change? token: the page's.
new_desk <- function(plan, path, saved, token) {
  desk <- new.env(parent = emptyenv())
  desk$seen <- shiny::reactiveValues(history = new_history(plan), columns = NULL, job = NULL, stopped = FALSE,
                                     answers = list(), trouble = NULL, refused = NULL, seal = NULL)
  desk$path <- path
  desk$saved <- saved
  desk$token <- token
  desk$logs <- stats::setNames(list(previous_log(path)), data_key(plan))
  desk$worker <- NULL
  desk$progress <- tempfile("desk-progress-")
  desk
}

desk_plan <- function(desk) desk$seen$history$plan

# Takes a new plan: the past remembers the old one, the file is written.
change_desk <- function(desk, plan) shiny::isolate(take_history(desk, move_on(desk$seen$history, plan)))

take_history <- function(desk, history) {
  if (identical(history$plan, desk$seen$history$plan)) return(invisible(desk))
  desk$seen$history <- history
  desk$seen$stopped <- FALSE
  desk$seen$refused <- NULL
  if (desk$saved) write_text(plan_text(history$plan), desk$path)
  invisible(desk)
}

# What a step's answer hangs on; a report and a comparison on all of the plan, help on its kind.
step_key <- function(plan, step, view = plan_step_views(plan)[[step]]) {
  if (step == "help") return(question_kind(plan))
  parts <- if (is.null(view)) names(plan) else view$hangs_on
  rlang::hash(plan[intersect(parts, names(plan))])
}

# The first step that has no answer yet and could have one, then the help; NULL for nothing to do.
next_step <- function(plan, answers, columns) {
  if (length(plan_question(plan)$data) == 0L) return(NULL)
  if (is.null(columns)) return("columns")
  views <- plan_step_views(plan)
  due <- function(step) !identical(answers[[step]]$key, step_key(plan, step, views[[step]]))
  able <- if (is_asked(plan)) vapply(views, function(view) view$able(plan), NA) else rep(FALSE, length(views))
  if (length(answers$question$value$failed) > 0L) able[-1L] <- FALSE
  steps <- Filter(due, names(views)[able])
  if (length(steps) > 0L) return(steps[[1L]])
  if (due("help")) "help"
}

# Is there a whole question?
is_asked <- function(plan) {
  question <- plan_question(plan)
  if (is_panel_plan(plan)) return(all(lengths(question[c("time", "outcome")]) > 0L))
  if (is_course_plan(plan)) return(all(lengths(question[c("treatment", "outcome", "time", "unit")]) > 0L))
  all(lengths(question[c(if (is_dose_plan(plan)) "dose" else "treatment", "outcome")]) > 0L) &&
    (length(question$covariates) > 0L || !is.null(question$graph))
}

# Called a few times a second while a browser looks on: hears the worker, and gives it the next job.
turn_desk <- function(desk) {
  seen <- desk$seen
  if (!is.null(seen$job)) hear_job(desk)
  if (!is.null(seen$job) || seen$stopped) return(invisible(desk))
  step <- next_step(desk_plan(desk), seen$answers, seen$columns)
  if (!is.null(desk$other)) step <- "comparison"
  if (!is.null(desk$report)) step <- "report"
  if (is.null(step)) return(invisible(desk))
  if (is.null(desk$worker) || !desk$worker$is_alive()) desk$worker <- start_worker()
  unlink(desk$progress)
  plan <- desk_plan(desk)
  job <- list(lines = plan_text(plan), path = desk$path, step = step, log = desk$logs[[data_key(plan)]],
              progress = desk$progress, out = desk$report, other = desk$other)
  if (give_job(desk$worker, job)) {
    seen$job <- list(step = step, data = data_key(plan), key = step_key(plan, step), started = Sys.time())
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
    list(html = "", verdict = "failed", failed = c(worker = told$error))
  if (job$step == "columns") {
    seen$trouble <- value$failed
    if (length(value$failed) > 0L) seen$stopped <- TRUE else take_columns(desk, value)
  } else if (job$step %in% desk_jobs) {
    if (job$step == "report") desk$report <- NULL
    if (job$step == "comparison") desk$other <- NULL
    seen$answers[[job$step]] <- list(key = job$key, value = value)
  } else {
    seen$answers[[job$step]] <- list(key = job$key, value = value)
    if (!is.null(value$seal)) seen$seal <- value$seal
    keep_log(desk, job$data, value$log)
  }
}

# The columns are known: a plan without a question gets a guess, which the page says to check.
take_columns <- function(desk, columns) {
  desk$seen$columns <- columns
  plan <- desk_plan(desk)
  if (is_panel_plan(plan) || is_dose_plan(plan) || length(plan$study$treatment) > 0L) return(invisible(desk))
  if (length(kinds_offered(columns)) == 0L) return(invisible(desk))
  change_desk(desk, set_kind(plan, likely_kind(columns), columns))
}

stop_desk_job <- function(desk) {
  stop_worker(desk$worker)
  desk$worker <- NULL
  desk$report <- NULL
  desk$other <- NULL
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

# key: data_key(); data that are uploaded after others have a logbook of their own.
keep_log <- function(desk, key, log) {
  if (is.null(log) || identical(log, desk$logs[[key]])) return(invisible(desk))
  desk$logs[[key]] <- log
  if (desk$saved) write_csv(log, log_path(desk$path))
}

# How far the job is: a sentence, NULL for nothing to say.
job_words <- function(desk) {
  job <- desk$seen$job
  if (is.null(job)) return(NULL)
  told <- if (file.exists(desk$progress)) utils::tail(readLines(desk$progress, warn = FALSE), 1L)
  seconds <- as.numeric(difftime(Sys.time(), job$started, units = "secs"))
  what <- step_titles(desk_plan(desk))[[job$step]]
  if (length(told) == 1L) return(paste0(what, ": ", told))
  if (seconds < 1) paste0(what, " ...") else sprintf("%s ... %.0f s", what, seconds)
}
