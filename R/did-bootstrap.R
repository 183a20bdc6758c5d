# The bootstrap of clusters for effects over time: everything is estimated anew on every draw, and averages of cells are
# made of the same draws. G - 1 of G clusters are drawn with replacement and stand for all (Rao & Wu 1988). For cells
# they are drawn within cohorts, so that none gets lost; how large cohorts are, by which cells are averaged, is drawn
# from all clusters together, as the analytic error adds it. Where clusters cut across cohorts all are drawn together,
# and where a design is carried into the panel: it was made on all, and is made anew on each draw.

# draws: list(estimates: draws x cells, sizes: draws x what weighs cohorts, alone: codes of cohorts of one cluster, df).
bootstrap_did <- function(effect, panel, y, asked, call) {
  clusters <- drawn_panel_clusters(panel, !is.null(effect$cells))
  check_drawn_clusters(clusters, panel, call)
  asked$inference <- "analytic"
  cells <- length(effect$table$estimate)
  y <- with_left_out(panel, effect$outcome, y)
  weight <- if (is.null(panel$s)) rep(1, length(y)) else panel$s
  one <- function(k) {
    counts <- clusters$counts(k, asked$seed)[clusters$unit]
    tryCatch(suppressWarnings({
      drawn <- drawn_panel(panel, weight, counts, clusters$factor[clusters$unit])
      found <- estimate_did(drawn, replace(y, drawn$s == 0, NA), asked)
      c(table_estimates(found), found$size * growth_of(clusters$growth(k, asked$seed), effect))
    }), twin_error = function(e) rep(NA_real_, cells + length(effect$size)))
  }
  draws <- run_draws("Bootstrap draws", asked$draws, cells + length(effect$size), one)
  known <- which(!is.na(effect$table$estimate))
  good <- rowSums(is.na(draws[, known, drop = FALSE])) == 0
  check_draws(draws[, known, drop = FALSE], nrow(draws), call)
  failed <- sum(!good)
  words <- c(sprintf("bootstrap, %s draws of %s (seed %s), %s intervals", count_text(nrow(draws)),
                     drawn_cluster_words(clusters), format(asked$seed), asked$interval),
             if (failed > 0L) sprintf("%s failed", count_text(failed)),
             if (is_carried(panel)) carried_draw_words(panel))
  draws <- draws[good, , drop = FALSE]
  effect <- amend_effect(effect, inference = paste(words, collapse = ", "), draws = list(
    estimates = draws[, seq_len(cells), drop = FALSE], sizes = draws[, -seq_len(cells), drop = FALSE],
    alone = clusters$alone, df = core_known_df(length(clusters$stratum) - length(clusters$sizes))
  ))
  with_cluster_draws(effect, NULL)
}

# Units stand in a draw counts times, each for factor of them; weight: of rows.
drawn_panel <- function(panel, weight, counts, factor) {
  if (is_carried(panel)) return(redrawn_panel(panel, counts, factor))
  amend(panel, s = weight * (counts * factor)[panel$unit])
}

# Sizes are of cohorts, or of cells where the effect says what each weighs.
growth_of <- function(growth, effect) {
  if (is.null(effect$size)) 1 else if (effect$fixed) growth[effect$cells$cohort] else growth
}

# list(unit: per unit its cluster, 1..G sorted by stratum (cohort, where clusters are to be drawn within them and do not
# cut across), name, stratum, sizes, factor: what each drawn stands for, nested, alone: cohorts of one cluster, and two
# functions of draw and seed: counts, how often each cluster stands in it, and growth, what the size of each cohort is
# multiplied by). Pairs and sets are made of units: these are drawn.
drawn_panel_clusters <- function(panel, within) {
  sets <- are_sets(panel$cluster)
  code <- if (sets) seq_along(panel$cohort) else cluster_codes(panel)
  first <- which(!duplicated(code))
  nested <- within && !is_carried(panel) && all(panel$cohort == panel$cohort[first][code])
  stratum <- if (nested) panel$cohort[first] else rep(1L, length(first))
  order <- order(stratum)
  stratum <- stratum[order]
  sizes <- tabulate(match(stratum, unique(stratum)))
  several <- sizes > 1L
  of_several <- rep(several, sizes)
  factor <- rep(sizes / pmax(sizes - 1, 1), sizes)
  counts <- function(k, seed) {
    out <- rep(1L, length(stratum))
    if (any(several)) out[of_several] <- core_draw_counts(sizes[several], k, seed, 1L)
    out
  }
  growth <- function(k, seed) {
    if (!nested) return(rep(1, nrow(panel$cohorts)))
    drawn <- core_draw_counts(length(stratum), k, sub_seed(seed, "cohort sizes", 0L), 1L)
    out <- core_sums_by(drawn, stratum, nrow(panel$cohorts)) / tabulate(stratum, nrow(panel$cohorts))
    pmax(out, 1e-9)  # cohorts that no draw fell on weigh next to nothing, or all alike
  }
  list(unit = match(code, order), name = if (sets) panel$roles$unit else attr(panel$cluster, "name"),
       stratum = stratum, sizes = sizes, factor = factor, nested = nested,
       alone = if (nested) unique(stratum)[!several] else integer(), counts = counts, growth = growth)
}

check_drawn_clusters <- function(clusters, panel, call) {
  if (any(clusters$sizes > 1L)) return(invisible(clusters))
  abort_input(c("The bootstrap needs a cohort with at least 2 clusters.",
                x = "Every cohort is a single one of {.val {attr(panel$cluster, 'name')}}.",
                i = "Use {.code inference = \"randomization\"}."), call = call)
}

drawn_cluster_words <- function(clusters) {
  sprintf("%s (%s)%s", clusters$name, count_text(length(clusters$stratum)),
          if (clusters$nested) " within cohorts, one fewer than each has" else ", one fewer than there are")
}

# The effect, of cells (plan NULL) or averages of them, with what the draws say. Terms that rest on a cohort of one
# cluster have no error: nothing of it was drawn.
with_cluster_draws <- function(effect, plan) {
  known <- effect$draws
  estimates <- known$estimates
  if (!is.null(plan)) {
    rows <- lapply(seq_len(nrow(estimates)), function(b) {
      own <- replace(estimates[b, ], is.na(estimates[b, ]), 0)
      did_averages(effect, plan, effect$over, known$sizes[b, ], own)$estimate
    })
    estimates <- do.call(rbind, rows)
    if (isTRUE(effect$asked$normalise)) {
      estimates <- sweep(estimates, 2L, treatment_behind(effect$table, effect$over), `/`)
    }
  }
  alone <- known$alone
  rests <- rep(FALSE, ncol(estimates))
  if (!is.null(effect$cells) && length(alone) > 0L) {
    from <- effect$cells$cohort %in% alone | any(effect$study$cohorts$position[alone] == Inf)
    rests <- colSums(effect$combine[from, , drop = FALSE] != 0) > 0
  }
  base <- effect$table$kind == "base"
  unknown <- is.na(effect$table$estimate) | (rests & !base)
  vcov <- stats::cov(estimates)
  vcov[unknown, ] <- NA_real_
  vcov[, unknown] <- NA_real_
  vcov <- core_without_certainty(vcov, ifelse(base, -1, effect$scale))
  dimnames(vcov) <- list(effect$table$term, effect$table$term)
  effect <- amend_effect(effect, vcov = vcov, df = rep(known$df, ncol(estimates)), lent = FALSE,
                         alone = effect$study$cohorts$label[alone])
  if (effect$asked$interval == "normal") return(effect)
  with_percentiles(effect, estimates, is.na(diag(vcov)) | base)
}

with_percentiles <- function(effect, estimates, without) {
  limits <- matrix(NA_real_, ncol(estimates), 2L)
  p <- rep(NA_real_, ncol(estimates))
  own <- estimates[, !without, drop = FALSE]
  limits[!without, ] <- core_percentile_limits(own, effect$level)
  p[!without] <- core_percentile_p(own, numeric(ncol(own)))
  amend_effect(effect, limits = limits, p.value = p)
}
