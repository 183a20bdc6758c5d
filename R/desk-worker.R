# The process beside the page that computes: one job at a time, which the page polls, so that it never waits.

# What a worker has made so far.
desk_kept <- new.env(parent = emptyenv())

# Run in the worker. lines: of the plan; path: where it would stand; step: of plan_step_views(), or of desk_jobs; log:
# entries of earlier sessions; progress: file to say how far it is in; other: lines of a plan to compare with.
desk_job <- function(lines, path, step, log, progress, out = NULL, other = NULL) {
  rlang::local_options(cli.width = 10000L, progressr.enable = TRUE,
                       progressr.handlers = list(file_progress(progress)))
  desk_kept$log <- log
  tryCatch({
    plan <- plan_from_lines(lines, path)
    switch(step, columns = answer_columns(plan),
           report = answer_report(plan, out, desk_kept), comparison = answer_comparison(plan, other, desk_kept),
           help = list(html = lapply(plan_step_views(plan), step_help)), answer_step(plan, step, desk_kept))
  }, twin_error = function(e) list(html = "", verdict = "not yet", failed = c(plan = failed_sentence(e)), log = log))
}

# Writes "message, 40%, about 8 s left" where the page looks for it.
file_progress <- function(file) {
  started <- NULL
  progressr::make_progression_handler("desk", reporter = list(
    initiate = function(...) started <<- Sys.time(),
    update = function(config, state, progression, ...) {
      if (state$step == 0L) return(invisible())
      passed <- as.numeric(difftime(Sys.time(), started, units = "secs"))
      writeLines(progress_line(state$message, state$step / config$max_steps, passed), file)
    }
  ), enable = TRUE, intrusiveness = 1, target = "file")
}

start_worker <- function() callr::r_session$new(wait = FALSE)

# Begins a job; TRUE where the worker took it.
give_job <- function(worker, job) {
  if (worker$get_state() == "starting" && worker$poll_process(0) == "ready") worker$read()
  if (worker$get_state() != "idle") return(FALSE)
  worker$call(desk_job, job, package = TRUE)
  TRUE
}

# NULL while it works; list(value) when done, list(error: text) when it failed or was lost.
ask_worker <- function(worker) {
  lost <- list(lost = TRUE, error = "The process that computes was lost twice: out of memory, or stopped from outside.")
  if (!worker$is_alive()) return(lost)
  if (worker$poll_process(0) != "ready") return(NULL)
  told <- worker$read()
  if (isTRUE(told$code %in% 500:503)) return(lost)
  if (is.null(told) || told$code != 200L) return(NULL)
  if (!is.null(told$error)) {
    return(list(error = paste("something went wrong that should not have; please report it:",
                              conditionMessage(told$error))))
  }
  list(value = told$result)
}

stop_worker <- function(worker) if (!is.null(worker) && worker$is_alive()) worker$kill()
