# Pairs of a table in a database. Ids and scores are fetched, and nothing else; pairs are found in memory, and can be
# written back to stand beside the rows.

# More rows than this are announced before they are fetched.
announced_rows <- 1e6

# x: a scored design; given: names of the arguments of pair_units(). A design in memory of ids and scores alone, of the
# units that are still in.
pulled_design <- function(x, on, caliper, given, call) {
  study <- study_of(x)
  refuse_row_options(intersect(given, c("covariates", "metric", "exact", "apart", "spread")), call)
  if (!any(c("score", "probability") %in% on)) refuse_row_options("on", call)
  if (length(setdiff(names(caliper), c("score", "distance", ""))) > 0L) refuse_row_options("caliper", call)
  check_score(x, "pair_units", call, remote = TRUE)
  if (is.null(study$roles$id)) {
    abort_input(c("Pairs of a table in a database need an {.arg id}, which names them.",
                  i = "Name one in {.fn frame_study}."), call = call)
  }
  if (!is.null(study$source$shards)) {
    abort_unsupported(c("Pairs need one database: ids of several servers may name several units.",
                        i = "Give {.fn remote_units} a connection to one that sees the whole table."), call = call)
  }
  if (sum(study$size) > announced_rows) {
    size <- sum(study$size)
    rlang::inform(sprintf("Fetching the ids and scores of up to %s units of %s, about %s MB.", count_text(size),
                          study$source$label, count_text(ceiling(size * 1.2e-4))), class = "twin_message_fetch")
  }
  score_only_design(x, pulled_scores(x, "probability" %in% on && length(on) == 1L))
}

# list(unit (id), z, s where there are weights, linear score, and the fitted one to pair on), in the order of ids.
pulled_scores <- function(x, probability) {
  study <- study_of(x)
  rows <- rlang::env_clone(study$rows)
  rows$base <- c(rows$base, u_id = quote_name(study$source, study$roles$id))
  kept <- remote_kept_weight(x)
  score <- c(list(linear = x$score$linear), if (probability) list(fitted = x$score$fitted))
  roles <- c(list(unit = quote(u_id), z = quote(u_z)), if (study$weighted) list(s = quote(u_s)))
  found <- row_values(rows, c(roles, score), call(">", kept, 0))
  if (inherits(found$unit, "integer64")) found$unit <- format(found$unit)
  found$z <- as.integer(found$z)
  order <- order(found$unit, method = "radix")
  found <- as.list(found)
  for (name in names(found)) found[[name]] <- found[[name]][order]  # one column at a time
  found
}

# A study of what came: ids, arms and weights, without covariates or outcomes.
score_only_design <- function(x, pulled) {
  study <- study_of(x)
  bare <- new_study(list(
    data = list2DF(stats::setNames(pulled["unit"], study$roles$id)), row_of = NULL, rows = seq_along(pulled$z),
    roles = study$roles["id"], levels = study$levels, z = pulled$z,
    s = pulled$s, cluster = NULL, stratum = NULL, columns = list(), formula = NULL,
    estimand = study$estimand, missing = study$missing, logged = NULL, dropped = study$dropped, by_graph = NULL,
    events = list()
  ), new_matrix_cache())
  bare["logbook"] <- list(NULL)
  steps <- design_steps(x)
  new_design(bare, NULL, kind = "raw", score = list(link = x$score$link, terms = x$score$terms, linear = pulled$linear,
                                                    fitted = pulled$fitted, aliased = x$score$aliased), steps = steps)
}

# pairs: the design in memory; x: the one in the database it came from.
new_remote_pairs <- function(pairs, x) {
  alone <- sum(!design_kept(pairs))
  log_step(study_of(x), "pair", design_label(pairs),
           sprintf("%d sets, %d pairs; without a partner or not needed: %d", length(unique(pairs$pairs$set)),
                   nrow(pairs$pairs), alone), design = pairs$hash)
  structure(list(pairs = pairs, study = study_of(x)), class = "twin_remote_pairs")
}

#' @exportS3Method
study_of.twin_remote_pairs <- function(x) x$study # nolint: object_name_linter. An S3 method.

# One row per unit and set: its id, the set, and its weight in it.
#' @export
as.data.frame.twin_remote_pairs <- function(x, ...) {
  found <- x$pairs$pairs
  long <- data.frame(unit = c(found$treated, found$control), set = rep(found$set, 2L), weight = rep(found$weight, 2L))
  code <- core_group_codes(long$unit, long$set)
  first <- !duplicated(code)
  out <- long[first, ]
  out$weight <- core_sums_by(long$weight, match(code, code[first]))
  out <- out[order(out$set, -x$pairs$study$z[out$unit], out$unit), ]
  id <- x$study$roles$id
  data <- data.frame(id = x$pairs$study$data[[id]][out$unit], set = out$set, weight = out$weight)
  names(data)[1L] <- if (id %in% c("set", "weight")) paste0(id, "_id") else id
  data
}

#' @export
tidy.twin_remote_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  pairs_of(x)
}

#' @export
glance.twin_remote_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  found <- x$pairs$pairs
  inside <- design_kept(x$pairs)
  data.frame(design = design_label(x$pairs), estimand = x$study$estimand, pairs = nrow(found),
             sets = length(unique(found$set)), n_treated = sum(x$pairs$study$z == 1L & inside),
             n_control = sum(x$pairs$study$z == 0L & inside), largest_distance = max(found$distance),
             passes = x$study$source$counter$passes)
}
