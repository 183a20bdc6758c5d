# Panels judged before the time under treatment is looked at: the balance of what units were before it, and what effects
# could be found.

# What assess_balance() compares of a panel: list(study: a row per unit and cohort it is compared for, weights: before
# and, with a design, after, groups: logical by cohort, label).
judged_panel <- function(panel, call = rlang::caller_env()) {
  refuse_remote(panel, call)
  if (!is_carried(panel)) return(judged_as_is(panel, call))
  designs <- panel$carried$designs
  if (panel$carried$by_cohort) return(judged_by_cohort(panel, designs))
  part <- designs[[1L]]
  cohort <- panel$cohort[part$unit]
  groups <- if (length(part$cohorts) > 1L) {
    lapply(stats::setNames(part$cohorts, panel$cohorts$label[part$cohorts]), function(h) cohort == h | part$z == 0L)
  }
  list(study = part$study, weights = list(before = sampling_weight(part$study), after = part$v), groups = groups,
       label = part$label)
}

# The panel's covariates as they stand just before each cohort's treatment, against units treated later or never.
judged_as_is <- function(panel, call) {
  names <- names(panel$columns)
  if (length(names) == 0L) {
    abort_input(c("The panel has neither covariates nor a design whose balance could be judged.",
                  i = "Name {.arg covariates} in {.fn frame_panel}, or carry a {.arg design} into it."), call = call)
  }
  position <- panel$periods$position
  blocks <- lapply(which(is_treated_cohort(panel)), function(h) {
    onset <- panel$cohorts$position[h]
    rows <- which(position[panel$time] < onset)
    if (length(rows) == 0L) return(NULL)
    cohort <- panel$cohort[panel$unit[rows]]
    never <- panel$cohorts$position == Inf
    rows <- rows[cohort == h | (if (any(never)) never[cohort] else panel$cohorts$position[cohort] > onset)]
    rows <- rows[!duplicated(panel$unit[rows], fromLast = TRUE)]  # rows are sorted by period
    own <- panel$data[panel$rows[rows], c(names, panel$roles$outcome[1L], panel$roles$weight), drop = FALSE]
    own$.treated <- panel$cohort[panel$unit[rows]] == h
    own$.cohort <- panel$cohorts$label[h]
    own
  })
  data <- do.call(rbind, blocks)
  rownames(data) <- NULL
  study <- stacked_study(panel, data, names, panel$roles$weight)
  list(study = study, weights = list(before = sampling_weight(study)), groups = cohort_groups(data$.cohort),
       label = "raw sample")
}

# The designs of all cohorts on top of one another, controls weighing as much as the treated they stand for.
judged_by_cohort <- function(panel, designs) {
  names <- Reduce(intersect, lapply(designs, function(part) names(part$study$columns)))
  outcome <- designs[[1L]]$study$roles$outcome[1L]
  blocks <- lapply(designs, function(part) {
    study <- part$study
    own <- study$data[study$rows, c(names, outcome), drop = FALSE]
    own$.treated <- study$z == 1L
    own$.cohort <- panel$cohorts$label[part$cohorts]
    own$.weight <- sampling_weight(study)
    own$.after <- part$v * ifelse(study$z == 1L, 1, sum(part$v[study$z == 1L]) / sum(part$v[study$z == 0L]))
    own
  })
  data <- do.call(rbind, unname(blocks))
  rownames(data) <- NULL
  weighted <- any(data$.weight != 1)
  study <- stacked_study(panel, data, names, if (weighted) ".weight")
  list(study = study, weights = list(before = data$.weight[study$rows], after = data$.after[study$rows]),
       groups = cohort_groups(data$.cohort[study$rows]), label = "a design for each cohort")
}

# What the rows warn of was told when they were framed first.
stacked_study <- function(panel, data, names, weight) {
  outcome <- setdiff(names(data), c(names, weight, ".treated", ".cohort", ".weight", ".after"))[1L]
  study <- suppressWarnings(frame_study(data, ".treated", outcome, names, treated = "TRUE", weight = weight))
  amend(study, logbook = panel$logbook)
}

cohort_groups <- function(label) {
  known <- unique(label)
  if (length(known) < 2L) return(NULL)
  lapply(stats::setNames(nm = known), function(own) label == own)
}

# What effects of a panel could be found, from untreated rows of its comparison units alone: each cohort's treated units
# are taken to vary as much as the comparison units do over the same periods. See assess_power().
panel_power <- function(panel, power, level, outcome, call = rlang::caller_env()) {
  refuse_remote(panel, call)
  refuse_switching(panel, "The power of a panel", call)
  refuse_held(panel, "The power of a panel", call)
  outcome <- panel_outcome(panel, outcome, call)
  controls <- lasting_controls(panel, call)
  log_step(panel, "look", paste(outcome, "of units not treated"), settings = list(by = "assess_power"))
  y <- as.double(coded_outcome(panel$data[[outcome]][panel$rows], panel$events[[outcome]]))
  y[!panel$cohort[panel$unit] %in% controls$cohorts] <- NA  # nobody else is looked at
  wide <- wide_outcome(panel, y)$y
  parts <- Filter(Negate(is.null), lapply(which(is_treated_cohort(panel)), function(h) {
    if (!h %in% controls$cohorts) planned_cohort(panel, h, wide, controls)
  }))
  if (length(parts) == 0L) {
    abort_unsupported(c("Nothing can be said of this panel's power.",
                        x = "No cohort has a period before treatment and one under it that comparison units are seen
                             in."), call = call)
  }
  share <- vapply(parts, `[[`, 0, "cells")
  share <- share / sum(share)
  cluster <- cluster_codes(panel)
  own <- Reduce(`+`, Map(function(part, a) a * part$contributions, parts, share))
  sums <- core_sums_by(own, cluster)
  used <- length(unique(cluster[own != 0]))
  if (used < 2L) {
    abort_unsupported(c("Nothing can be said of this panel's power: the comparison units are a single
                         {attr(panel$cluster, 'name')}."), call = call)
  }
  treated <- sum(share^2 * vapply(parts, `[[`, 0, "variance"))
  se <- sqrt(sum(sums^2) * used / (used - 1) + treated)
  sd <- sqrt(sum(share * vapply(parts, `[[`, 0, "spread")))
  if (!is.finite(se) || se <= 0) {
    abort_input(c("{.val {outcome}} of the comparison units does not vary.", i = "Name another {.arg outcome}."),
                call = call)
  }
  clusters <- panel_cluster_count(panel)
  df <- max(1, clusters - length(parts) - 1)
  size <- function(inside) core_effective_size(unit_weight(panel)[inside])
  structure(list(
    rows = power_rows(power, level, sd, se, df),
    sizes = c(treated = size(is_treated_cohort(panel)[panel$cohort] & unit_copies(panel) > 0),
              control = size(panel$cohort %in% controls$cohorts & unit_copies(panel) > 0)),
    pairs = NA_integer_, clusters = if (is_own_cluster(as.vector(panel$cluster))) NA_integer_ else clusters,
    cluster_name = attr(panel$cluster, "name"), df = df, sd = sd,
    intraclass = max(vapply(parts, `[[`, 0, "intraclass")), pairing = 0, outcome = outcome,
    design = if (is_carried(panel)) carried_label(panel) else "group-time differences", kind = "panel"
  ), class = "twin_power")
}

# Cohorts that stay untreated longest: never treated, or the last to be; until: the first position they are treated at.
lasting_controls <- function(panel, call) {
  last <- max(panel$cohorts$position)
  if (panel_comparison(panel, NULL, call) == "never") last <- Inf
  list(cohorts = which(panel$cohorts$position == last), until = last)
}

# Of the mean over a cohort's time under treatment less its base period: list(cells, contributions: of comparison units
# to their mean, variance: of the treated units' mean, spread: variance of one unit, intraclass); NULL where there is
# none.
planned_cohort <- function(panel, h, wide, controls) {
  position <- panel$periods$position
  onset <- panel$cohorts$position[h]
  post <- which(position >= onset & position < controls$until)
  before <- which(position < onset)
  if (length(post) == 0L || length(before) == 0L) return(NULL)
  change <- row_means(wide[, post, drop = FALSE]) - wide[, max(before)]
  weight <- cell_weights(panel, unit_weight(panel), h)
  known <- which(!is.na(change) & weight > 0)
  if (length(known) < 2L) return(NULL)
  v <- weight[known]
  away <- change[known] - sum(v * change[known]) / sum(v)
  spread <- core_variance_of(sum(v), sum(v^2), sum(v * away), sum(v * away^2))
  cluster <- panel$cluster[known]
  intraclass <- if (anyDuplicated(cluster) == 0L) 0 else core_intraclass(core_group_totals(change[known], cluster))
  own <- which(panel$cohort == h & unit_copies(panel) > 0 & weight > 0)
  if (length(own) == 0L) return(NULL)
  share <- weight[own] / sum(weight[own])
  common <- sum(core_sums_by(share, match(panel$cluster[own], unique(panel$cluster[own])))^2)
  contributions <- numeric(length(panel$cohort))
  contributions[known] <- v * away / sum(v)
  list(cells = sum(weight[own]) * length(post), contributions = contributions, spread = spread, intraclass = intraclass,
       variance = spread * ((1 - intraclass) * sum(share^2) + intraclass * common))
}
