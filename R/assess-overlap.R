#' Assess overlap of the propensity scores
#'
#' Shows where each arm's scores lie and how many units have no counterpart in the other arm ([Methods, "Overlap and
#' trimming"](../doc/methods.html#overlap-and-trimming), common support). A unit outside the other arm's range is
#' compared with nobody like it.
#'
#' @param x A `twin_design` with a score, or a scored `twin_arms` of [frame_arms()].
#' @return A `twin_overlap`. `tidy()` gives one row per arm and sample ("before", "after" when units were trimmed,
#'   paired or weighted): `arm`, `sample`, `n` (units with weight), `ess` (effective sample size), `min`, `q10`,
#'   `q25`, `median`, `q75`, `q90`, `max` (weighted quantiles of the score), `outside` (units beyond the other arm's
#'   range) and `share_outside`. `glance()` gives `low` and `high`, the common range, and the auc of the score: the
#'   chance that a treated unit's score exceeds a control's, high where overlap is poor. `region` in the object: for
#'   each arm with 10 or more units outside, a data frame of the leaves of a shallow tree that tells them apart in the
#'   covariates' own terms: `where`, `units`, `outside`, `share` (of the leaf's units that have no counterpart).
#'
#'   Of several arms a `twin_arms_overlap`: `tidy()` gives one row per chance (`chance_of`) and `arm`: `n`, `min` to
#'   `max`, `outside`, `share_outside` (beyond the chances that every arm reaches); `tidy(x, part = "support")` these by
#'   arm (`low`, `high`); `glance()` `units`, `outside`, `share_outside` (by any chance) and the `least_chance`.
#' @section Errors: `twin_error_input` without a score.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' overlap <- study |> score_units() |> assess_overlap()
#' overlap
#' plot(overlap)
#' @export
assess_overlap <- function(x) {
  if (is_imputed(x)) return(in_each_set(x, assess_overlap, match.call()))
  if (is_arms(x)) return(arms_overlap(x))
  check_score(x, "assess_overlap", remote = TRUE)
  study <- x$study
  found <- if (is_remote(x)) remote_overlap(x) else overlap_facts(x)
  log_once(study, "judge", paste("overlap of", design_label(x)),
           sprintf("%.0f treated, %.0f control without counterpart", found$rows$outside[1L], found$rows$outside[2L]))
  structure(c(found, list(
    link = if (x$score$link == "logit") "log odds" else link_words[[x$score$link]], levels = study$levels,
    design = design_label(x)
  )), class = "twin_overlap")
}

overlap_facts <- function(x) {
  study <- x$study
  e <- x$score$fitted
  s <- sampling_weight(study)
  rows <- overlap_rows(e, study$z, s, "before")
  if (alters_sample(x)) rows <- rbind(rows, overlap_rows(e, study$z, full_weight(x), "after"))
  common <- common_range(e, study$z, s > 0)
  outside <- s > 0 & (e < common[["low"]] | e > common[["high"]])
  list(
    rows = rows, common = common, auc = core_auc(e, study$z, s), score = e, linear = x$score$linear,
    common_linear = x$score$linear[match(common, e)],  # units' own scores, so that any link's is at hand
    z = study$z, before = s, after = if (alters_sample(x)) full_weight(x), outside = outside,
    region = outside_regions(study, outside)
  )
}

# For each arm, where its units without a counterpart are; NULL when there are fewer than 10 of them.
outside_regions <- function(study, outside) {
  lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- study$z == arm
    if (sum(outside[inside]) < 10L || all(outside[inside])) return(NULL)
    region_tree(lapply(study$columns, tree_column), inside, outside)
  })
}

tree_column <- function(column) {
  if (column$kind != "factor") return(column$values)
  factor(column$values, seq_along(column$levels), column$levels)
}

region_rows <- 50000L

# A tree of depth 2 (rpart, Gini) on at most so many units, evenly spaced, read off as sentences; leaves with the
# largest share outside first. Attributes: overall, the share outside; of, how many units there are.
region_tree <- function(columns, inside, outside) {
  keep <- which(inside)
  keep <- keep[unique(round(seq(1, length(keep), length.out = min(length(keep), region_rows))))]
  data <- as.data.frame(lapply(columns, `[`, keep), optional = TRUE)
  data$.outside <- factor(outside[keep], levels = c(FALSE, TRUE))
  share <- mean(outside[keep])
  tree <- rpart::rpart(.outside ~ ., data, method = "class", parms = list(prior = c(0.5, 0.5)),
                       control = rpart::rpart.control(maxdepth = 2, cp = 0.02, minbucket = 10, xval = 0))
  leaves <- tree$where
  paths <- rpart::path.rpart(tree, rownames(tree$frame), print.it = FALSE)
  rows <- lapply(sort(unique(leaves)), function(leaf) {
    path <- paths[[rownames(tree$frame)[leaf]]][-1L]
    data.frame(where = if (length(path) > 0L) paste(trimws(path), collapse = " and ") else "everywhere",
               units = sum(leaves == leaf), outside = sum(outside[keep][leaves == leaf]))
  })
  rows <- do.call(rbind, rows)
  rows$share <- rows$outside / rows$units
  rows <- rows[order(-rows$share), ]
  rownames(rows) <- NULL
  attr(rows, "overall") <- share
  attr(rows, "of") <- sum(inside)
  rows
}

overlap_rows <- function(e, z, v, sample) {
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- z == arm & v > 0
    other <- range(e[z != arm & v > 0])
    outside <- inside & (e < other[1L] | e > other[2L])
    quantiles <- core_weighted_quantiles(e[inside], v[inside], c(0, 0.1, 0.25, 0.5, 0.75, 0.9, 1))
    data.frame(
      arm = if (arm == 1L) "treated" else "control", sample = sample, n = sum(inside),
      ess = core_effective_size(v[inside]), min = quantiles[1L], q10 = quantiles[2L], q25 = quantiles[3L],
      median = quantiles[4L], q75 = quantiles[5L], q90 = quantiles[6L], max = quantiles[7L],
      outside = sum(outside), share_outside = sum(v[outside]) / sum(v[inside])
    )
  })
  rows <- do.call(rbind, unname(rows))
  rownames(rows) <- NULL
  rows
}

# Largest of the arms' least scores, least of their largest.
common_range <- function(e, z, inside) {
  treated <- range(e[z == 1L & inside])
  control <- range(e[z == 0L & inside])
  c(low = max(treated[1L], control[1L]), high = min(treated[2L], control[2L]))
}

#' @export
tidy.twin_overlap <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_overlap <- function(x, ...) x$rows

#' @export
glance.twin_overlap <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(low = x$common[["low"]], high = x$common[["high"]], auc = x$auc)
}
