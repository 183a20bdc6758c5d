# Standard errors, p-values and the object of an effect over time.

infer_did <- function(panel, y, found, asked, outcome, call = rlang::caller_env()) {
  name <- attr(found$cluster, "name")
  own <- is_own_cluster(as.vector(found$cluster))
  codes <- if (own) as.vector(found$cluster) else unique(as.vector(found$cluster))
  cluster <- if (own) seq_along(codes) else match(found$cluster, codes)
  used <- core_units_in_use(found$source)
  count <- if (own) length(used) else length(unique(cluster[used]))
  check_cluster_count(if (count < 20L) cluster[used] else seq_len(count), name, call)
  found$notes <- c(found$notes, cluster_level_note(panel))
  table <- did_table(panel, y, found)
  estimable <- !is.na(table$estimate)
  if (!any(estimable & table$kind != "base")) stop_no_cell(table, asked, call)
  effect <- new_did(panel, outcome, asked, found, table, list(
    cluster = cluster, name = name, labels = cluster_labels(panel, codes, name), count = count, df = count - 1,
    over = if (is.null(found$cells)) "single" else "cells",
    text = if (name == "single row") "robust" else sprintf("clustered by %s (%s)", name, count_text(count))
  ), y)
  if (asked$small_sample != "CR1") effect <- few_clusters(effect, found, cluster, asked, call)
  if (asked$inference == "wild") effect <- wild_bootstrap(effect, found, cluster, asked, call)
  if (asked$inference == "randomization") effect <- randomise_timing(effect, panel, y, asked, call)
  effect
}

# Clusters smaller than what is treated as a whole: groups; in a cross-section without groups, cohorts.
cluster_level_note <- function(panel) {
  level <- if (!is.null(panel$group)) panel$group else if (!panel$repeats) panel$cohort
  if (is.null(level) || all(panel$cluster == panel$cluster[match(level, level)])) return(NULL)
  whole <- if (is.null(panel$group)) "group" else panel$roles$group
  count <- length(unique(level))
  name <- attr(panel$cluster, "name")
  own <- if (name == "single row") "rows count as independent" else
    sprintf("clusters (%s) are smaller than what is treated as a whole (%s)", name,
            if (is.null(panel$group)) plural(count, "cohort") else whole)
  sprintf("%s: what shakes a whole %s is not in the standard errors%s", own, whole,
          if (count == 2L) sprintf("; with two %ss it can't be told from an effect", whole) else "")
}

# What the codes of clusters are called in the data.
cluster_labels <- function(panel, codes, name) {
  labels <- attr(panel$cluster, "labels")
  if (!is.null(labels)) return(labels[codes])
  if (!is.null(panel$unit_labels)) panel$unit_labels[codes] else as.character(panel$rows[codes])
}

did_table <- function(panel, y, found) {
  cells <- found$cells
  if (is.null(cells)) {
    counts <- if (is.null(found$counts)) treated_counts(panel, y) else found$counts
    return(data.frame(term = "difference", cohort = NA_character_, time = NA_character_, event_time = NA_real_,
                      kind = "post", estimate = unname(found$estimate), n_treated = counts[1L],
                      n_comparison = counts[2L], reason = NA_character_))
  }
  cohort <- panel$cohorts$label[cells$cohort]
  time <- panel$periods$label[cells$time]
  data.frame(term = sprintf("cohort %s, %s", cohort, time), cohort = cohort, time = time, event_time = cells$event_time,
             kind = cells$kind, estimate = cells$estimate, n_treated = cells$n_treated,
             n_comparison = cells$n_comparison, reason = cells$reason)
}

# Rows with an outcome under treatment, and without.
treated_counts <- function(panel, y) {
  counts <- cell_counts(panel, y)
  treated <- outer(panel$cohorts$position, panel$periods$position, `<=`)
  c(sum(counts[treated]), sum(counts[!treated]))
}

stop_no_cell <- function(table, asked, call) {
  reasons <- unique(table$reason[!is.na(table$reason)])
  abort_unsupported(c(
    "No effect can be estimated.", x = "Reasons: {reasons}.",
    i = if (asked$comparison == "never") "Try {.code comparison = \"not_yet\"}." else
      "Try fewer covariates, or less {.arg anticipation}."
  ), reasons = reasons, call = call)
}

# table: one row per term with estimate; clustering: list(cluster, name, count, df, over, text); combine, shift: how its
# terms are made of the source's columns (the identity by default). y: for counts.
new_did <- function(panel, outcome, asked, found, table, clustering, y, combine = NULL, shift = NULL) {
  if (is.null(combine)) combine <- diag(length(found$estimate))
  vcov <- core_source_vcov(found$source, combine, shift, clustering$cluster, clustering$count)
  unknown <- is.na(table$estimate)
  vcov[unknown, ] <- NA_real_
  vcov[, unknown] <- NA_real_
  dimnames(vcov) <- list(table$term, table$term)
  missing <- if (anyNA(y)) sum(is.na(y)) else 0L
  structure(list(
    outcome = outcome, estimator = asked$estimator, estimand = "ATT", level = asked$level, asked = asked, study = panel,
    over = clustering$over, table = table, estimate = stats::setNames(table$estimate, table$term), vcov = vcov,
    df = clustering$df, source = found$source, combine = combine, shift = shift, cells = found$cells, size = found$size,
    fixed = found$fixed, cluster = clustering$cluster, cluster_name = clustering$name,
    cluster_labels = clustering$labels, clusters = clustering$count,
    inference = clustering$text, notes = found$notes, missing = missing, nobs = length(y) - missing, bands = NULL,
    family = if (asked$adjustment == "none") NULL else "gaussian", note = character(), kind = "panel",
    design = "panel", reuse = FALSE, sizes = c(treated = NA_real_, control = NA_real_), worst_smd = NA_real_,
    limits = NULL, p.value = NULL, draws = NULL
  ), class = c("twin_did", "twin_effect"))
}

few_clusters <- function(effect, found, cluster, asked, call) {
  whole <- cluster_scatter(found, cluster, call)
  out <- core_small_sample(whole$moments, whole$fit$inverse, whole$fit$coefficients, whole$fit$own, asked$small_sample)
  words <- sprintf("%s, %s%s", effect$inference, asked$small_sample, if (asked$small_sample == "CR2")
    sprintf(" with %s degrees of freedom", formatC(out$df, digits = 1, format = "f")) else "")
  amend_effect(effect, vcov = matrix(out$variance, 1L, 1L), df = out$df, inference = words)
}

# The regression anew, its scatter by cluster.
cluster_scatter <- function(found, cluster, call) {
  if (is.null(found$view)) {
    abort_unsupported(c("CR2, CR3 and the wild bootstrap are for unit and period effects alone.",
                        i = "Leave {.arg absorb} out, or use CR1."), call = call)
  }
  view <- found$view
  if (!is.null(view$piece)) {
    abort_unsupported(c("CR2, CR3 and the wild bootstrap need clusters that hold whole groups.",
                        x = "Groups (or cohorts) are spread over several values of {.val {attr(found$cluster, 'name')}}.",
                        i = "Choose a {.arg cluster} above the groups in {.fn frame_panel}, or use CR1."), call = call)
  }
  block <- core_group_codes(cluster, view$cohort)
  first <- which(!duplicated(block))
  block <- match(block, block[first])
  size <- (view$rows$periods + ncol(view$rows$columns))^2
  if (as.double(size) * length(first) > 2e8) {
    abort_unsupported(c("CR2, CR3 and the wild bootstrap are meant for few clusters.",
                        x = "Here are {length(unique(cluster))}.",
                        i = "Use {.code small_sample = \"CR1\"} with {.code inference = \"analytic\"}."), call = call)
  }
  grams <- core_within_grams(view$rows, block, length(first))
  fit <- core_within_fit(grams, found$treat[view$cohort[first]], found$p)
  list(fit = fit, moments = core_cluster_moments(grams, fit$maps, cluster[first], view$rows$periods + 1L))
}

wild_bootstrap <- function(effect, found, cluster, asked, call) {
  whole <- cluster_scatter(found, cluster, call)
  count <- length(whole$moments)
  kind <- if (is.null(asked$multiplier)) if (count < 10L) "webb" else "rademacher" else asked$multiplier
  exact <- kind == "rademacher" && 2^count <= asked$draws
  signs <- if (exact) core_all_signs(count) else with_own_seed(asked$seed, core_draw_signs(count, asked$draws, kind))
  sums_of <- function(signs) core_wild_sums(whole$moments, whole$fit$scatter, whole$fit$inverse, whole$fit$own, signs)
  sums <- sums_of(signs)
  data <- sums_of(matrix(1, count, 1L))
  limits <- core_wild_limits(sums, data, effect$estimate[[1L]], sqrt(effect$vcov[1L, 1L]), asked$level, exact)
  words <- sprintf("%s; p-value and interval by wild cluster bootstrap, %s", effect$inference, if (exact)
    sprintf("all %s sign vectors", count_text(2^count)) else
      sprintf("%s draws (%s, seed %s)", count_text(asked$draws), if (kind == "webb") "Webb's six points" else "signs",
              format(asked$seed)))
  amend_effect(effect, p.value = core_wild_p(sums, data, 0, exact), limits = limits, inference = words)
}

# Who is treated when, drawn anew among the groups (or units) that are treated as a whole; the sizes of cohorts stay.
randomise_timing <- function(effect, panel, y, asked, call) {
  level <- if (!is.null(panel$group)) panel$group else if (panel$repeats) seq_along(panel$cohort)
  if (is.null(level)) {
    abort_input(c("Randomization inference needs to know what is treated as a whole.",
                  i = "Name {.arg group} in {.fn frame_panel}."), call = call)
  }
  first <- which(!duplicated(level))
  assigned <- panel$cohort[first]
  plain <- asked
  plain$inference <- "analytic"
  one <- function(k) {
    drawn <- with_own_seed(sub_seed(asked$seed, "timing", k), sample(assigned))
    tryCatch({
      found <- estimate_did(amend(panel, cohort = drawn[match(level, level[first])]), y, plain)
      c(found$estimate, if (is.null(found$size)) NULL else found$size)
    }, twin_error = function(e) rep(NA_real_, length(effect$estimate) + length(effect$size)))
  }
  draws <- run_draws("Assignments", asked$draws, length(effect$estimate) + length(effect$size), one)
  effects <- seq_along(effect$estimate)
  drawn <- list(estimate = draws[, effects, drop = FALSE], size = draws[, -effects, drop = FALSE])
  what <- if (!is.null(panel$group)) panel$roles$group else panel$roles$unit
  words <- sprintf("%s; p-values from %s random assignments of timing to %s (seed %s)", effect$inference,
                   count_text(asked$draws), plural(length(assigned), what), format(asked$seed))
  amend_effect(effect, draws = drawn, p.value = randomization_p(effect$estimate, drawn$estimate), inference = words)
}

randomization_p <- function(estimate, draws) {
  far <- colSums(abs(draws) >= rep(abs(estimate) * (1 - 1e-9), each = nrow(draws)), na.rm = TRUE)
  out <- (far + 1) / (colSums(!is.na(draws)) + 1)
  ifelse(is.na(estimate), NA_real_, unname(out))
}

# What to read with care.
warn_did <- function(effect) {
  cells <- effect$table
  if (!is.null(effect$cells)) {
    failed <- cells[!is.na(cells$reason), ]
    reasons <- table(failed$reason)
    listing <- sprintf("%s (%d)", names(reasons), as.integer(reasons))
    if (nrow(failed) > 0L) {
      warn_kind("cells", c(
        "{nrow(failed)} of {nrow(cells)} cells can't be estimated: {listing}.",
        i = "They stay in the table with their reason; first: {.val {first_rows(failed$term)}}."
      ), terms = failed$term)
    }
  }
  panel <- effect$study
  first <- match(seq_len(nrow(panel$cohorts)), panel$cohort)
  alone <- !seq_len(nrow(panel$cohorts)) %in% panel$cohort[panel$cluster != panel$cluster[first][panel$cohort]]
  tiny <- is_treated_cohort(panel) & alone
  if (any(tiny)) {
    labels <- panel$cohorts$label[tiny]
    warn_kind("tiny_cohort", c(
      "{cli::qty(length(labels))}Cohort{?s} {.val {labels}} {?has/each have} a single {effect$cluster_name}: its own
       chance can't be seen in the standard errors, which are too small.",
      i = "Use {.code inference = \"randomization\"}, or merge cohorts."
    ), cohorts = labels)
  }
}
