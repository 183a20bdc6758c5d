# Long work shows progress through progressr, with the handlers the user has chosen: in an interactive session, when a
# command runs at a terminal, or where the option progressr.enable says so.

# work: a function of tick(), which it calls once per piece of work; steps: how many there will be, when known.
show_progress <- function(title, work, steps = NULL) {
  progressr::with_progress({
    progress <- progressr::progressor(steps = if (is.null(steps)) 1L else steps, message = title)
    work(ticker(progress, title, if (is.null(steps)) 0 else 1))
  }, enable = getOption("progressr.enable", interactive()))
}

# Workers are sent it, with all that it was made among: nothing here.
ticker <- function(progress, title, amount) {
  force(progress)
  force(title)
  force(amount)
  function(what = "") progress(message = paste0(title, ": ", what), amount = amount)
}

# A row per draw: one(k) gives the `width` numbers of draw k, whichever worker runs it.
run_draws <- function(title, size, width, one) {
  chunks <- split(seq_len(size), ceiling(seq_len(size) / max(1, size / 40)))
  parts <- show_progress(title, steps = length(chunks), work = function(tick) {
    future.apply::future_lapply(chunks, draw_chunk, one = one, size = size, width = width, tick = tick,
                                future.seed = NULL, future.packages = "carefultwin")
  })
  do.call(rbind, parts)
}

# What a worker does is a function of the package: one that is made where the work is would take everything there along.
draw_chunk <- function(chunk, one, size, width, tick) {
  out <- vapply(chunk, one, numeric(width))
  tick(sprintf("%d of %d", max(chunk), size))
  matrix(out, nrow = length(chunk), byrow = TRUE)
}

# Draws in which everything could be estimated; nearly all must be.
check_draws <- function(draws, size, call) {
  good <- rowSums(!is.finite(draws)) == 0
  if (sum(good) < 2L) {
    abort_input(c("Nearly all replicates failed: the design could be made again in {sum(good)} of {size}.",
                  i = "Use {.code inference = \"analytic\"}; look for small cells and near separation."), call = call)
  }
  if (mean(good) < 0.95) {
    warn_kind("draws", c(
      "{sum(!good)} of {size} replicates failed and are left out.",
      i = "The design could not be made again on them (an empty stratum, separation); the standard error speaks of the
           others."
    ), failed = sum(!good))
  }
  draws[good, , drop = FALSE]
}

# The same for a list of pieces that give any result: one(piece), whichever worker runs it, as a list.
run_pieces <- function(title, pieces, one) {
  show_progress(title, steps = length(pieces), work = function(tick) {
    future.apply::future_lapply(pieces, run_piece, one = one, tick = tick, future.seed = NULL,
                                future.packages = "carefultwin", future.scheduling = dealt_out())
  })
}

run_piece <- function(piece, one, tick) {
  out <- one(piece)
  tick()
  out
}

# How tasks come to workers: in four stretches each where there are several, so that who is done early takes from the
# others, a stretch having every so-manieth task, as tasks near one another cost alike.
dealt_out <- function() {
  workers <- future::nbrOfWorkers()
  turns <- if (workers > 1L) 4 else 1
  structure(turns, ordering = function(tasks) order(seq_len(tasks) %% min(tasks, turns * workers)))
}

# How many threads the kernels may use: the option carefultwin.threads, by default as many as the system offers. Answers
# do not depend on it.
thread_count <- function() {
  asked <- getOption("carefultwin.threads")
  if (is.null(asked)) return(core_threads_offered())
  check_number(asked, min = 1, arg = "carefultwin.threads", call = NULL)
  round(asked)
}

# "Draws: 40 of 200, 20%, about 8 s left". passed: seconds.
progress_line <- function(message, share, passed) {
  left <- passed * (1 - share) / share
  time <- if (left < 90) sprintf("%.0f s", left) else sprintf("%.0f min", left / 60)
  substr(sprintf("%s, %.0f%%, about %s left", paste(message, collapse = " "), 100 * share, time), 1L, 79L)
}
