# Standard errors, p-values and the object of an effect over time.

infer_did <- function(panel, y, found, asked, outcome, call = rlang::caller_env()) {
  name <- attr(found$cluster, "name")
  if (!is.null(asked$spread$rows)) asked$spread$code <- attr(found$cluster, "crossed")
  own <- is_own_cluster(as.vector(found$cluster))
  codes <- if (own) as.vector(found$cluster) else unique(as.vector(found$cluster))
  cluster <- if (own) seq_along(codes) else match(found$cluster, codes)
  count <- if (own) core_count_in_use(found$source) else core_clusters_in_use(found$source, cluster)
  table <- did_table(panel, y, found)
  estimable <- !is.na(table$estimate)
  if (!any(estimable & table$kind != "base")) stop_no_cell(table, asked, call)
  if (is.null(asked$spread)) check_did_clusters(count, name, asked, is.null(found$cells), call)
  found$notes <- c(found$notes, cluster_level_note(panel))
  effect <- new_did(panel, outcome, asked, found, table, list(
    cluster = cluster, name = name, labels = cluster_labels(panel, codes, name), count = count, df = count - 1,
    regression = !is.null(found$path),
    over = told_over(found),
    text = inference_words(found, cluster, name, count, asked)
  ), y)
  if (asked$small_sample != "CR1") effect <- few_clusters(effect, found, cluster, asked, call)
  if (asked$inference == "wild") effect <- wild_bootstrap(effect, found, cluster, asked, call)
  if (asked$inference == "randomization") {
    effect <- did_estimators[[asked$estimator]]$randomise(effect, panel, y, asked, call)
  }
  if (asked$inference == "bootstrap") effect <- bootstrap_did(effect, panel, y, asked, call)
  if (effect$over == "dose") with_dose_band(effect) else effect
}

# How errors are made, in a few words.
inference_words <- function(found, cluster, name, count, asked) {
  if (!is.null(asked$spread)) return(spread_words(found$source, cluster, name, asked$spread))
  paste0(if (name == "single row") "robust" else sprintf("clustered by %s (%s)", name, count_text(count)),
         if (!is.null(found$cells)) ", cohort by cohort")
}

# What the rows of the table are.
told_over <- function(found) {
  if (!is.null(found$over)) return(found$over)
  if (!is.null(found$path)) "event" else if (is.null(found$cells)) "single" else "cells"
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

# The estimates of that table alone.
table_estimates <- function(found) {
  if (!is.null(found$path)) return(found$path$estimate)
  if (is.null(found$cells)) unname(found$estimate) else found$cells$estimate
}

did_table <- function(panel, y, found) {
  if (!is.null(found$path)) return(found$path)
  cells <- found$cells
  if (is.null(cells)) {
    counts <- if (is.null(found$counts)) treated_counts(panel, y) else found$counts
    return(data.frame(term = "difference", cohort = NA_character_, time = NA_character_, event_time = NA_real_,
                      kind = "post", estimate = unname(found$estimate), n_treated = counts[1L],
                      n_comparison = counts[2L], reason = NA_character_, reach = 1))
  }
  cohort <- panel$cohorts$label[cells$cohort]
  time <- panel$periods$label[cells$time]
  data.frame(term = sprintf("cohort %s, %s", cohort, time), cohort = cohort, time = time, event_time = cells$event_time,
             kind = cells$kind, estimate = cells$estimate, n_treated = cells$n_treated,
             n_comparison = cells$n_comparison, reason = cells$reason,
             reach = vapply(cells$cohort, function(h) treated_share(panel, h), 0))
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
new_did <- function(panel, outcome, asked, found, table, clustering, y) {
  combine <- if (is.null(found$combine)) diag(length(found$estimate)) else found$combine
  scale <- if (is_remote(panel)) panel$spread else stats::sd(y, na.rm = TRUE)
  own <- did_vcov(panel, found$source, table, combine, NULL, clustering, scale, asked$spread)
  out <- if (is_carried(panel)) length(y) - panel_rows_count(panel) else 0L
  missing <- if (is_remote(panel)) panel$lost else if (anyNA(y)) sum(is.na(y)) - out else 0L
  structure(list(
    outcome = outcome, estimator = asked$estimator,
    estimand = if (is_carried(panel)) panel$carried$designs[[1L]]$estimand else "ATT", level = asked$level,
    asked = asked, study = panel,
    over = clustering$over, table = table, estimate = stats::setNames(table$estimate, table$term), vcov = own$vcov,
    df = own$df, source = found$source, combine = combine, shift = NULL, cells = found$cells, size = found$size,
    alone = own$alone, lent = own$lent, scale = scale,
    fixed = found$fixed, cluster = clustering$cluster, cluster_name = clustering$name,
    cluster_labels = clustering$labels, clusters = clustering$count,
    inference = clustering$text, notes = found$notes, missing = missing, bands = NULL,
    nobs = if (is_remote(panel)) panel$known else length(y) - missing - out,
    family = if (asked$adjustment == "none") NULL else "gaussian", note = character(), kind = "panel",
    design = "panel", reuse = FALSE, sizes = c(treated = NA_real_, control = NA_real_), worst_smd = NA_real_,
    limits = NULL, p.value = NULL, draws = NULL, synthetic = found$synthetic, cautions = character()
  ), class = c("twin_did", "twin_effect"))
}

# Covariance and degrees of freedom of terms (rows of table) made of the source's columns by combine and shift. One
# number of a regression: cluster sums, G - 1. Averages of cells: cohort by cohort, Satterthwaite. clustering:
# list(cluster, count, df, over). scale: the outcome's sd. Returns list(vcov, df, alone: labels of cohorts of one
# cluster, lent).
did_vcov <- function(panel, source, table, combine, shift, clustering, scale, spread = NULL) {
  found <- if (!is.null(spread)) {
    spread_vcov(source, combine, shift, clustering$cluster, spread)
  } else if (clustering$over == "single" || isTRUE(clustering$regression)) {
    list(vcov = core_source_vcov(source, combine, shift, clustering$cluster, clustering$count), df = clustering$df,
         alone = integer(), lent = FALSE)
  } else {
    core_cohort_vcov(source, combine, shift, clustering$cluster, lending_blocks(panel, source))
  }
  unknown <- is.na(table$estimate) | if (is.null(table$alone)) FALSE else table$alone
  found$vcov[unknown, ] <- NA_real_
  found$vcov[, unknown] <- NA_real_
  found$vcov <- core_without_certainty(found$vcov, ifelse(table$kind == "base", -1, scale))
  dimnames(found$vcov) <- list(table$term, table$term)
  found$alone <- unique(panel$cohorts$label[(found$alone - 1L) %% nrow(panel$cohorts) + 1L])
  found
}

# Treated cohorts, on both sides of triple differences.
lending_blocks <- function(panel, source) {
  treated <- which(is_treated_cohort(panel))
  sides <- max(source$block) %/% nrow(panel$cohorts)
  c(outer(treated, nrow(panel$cohorts) * (seq_len(max(sides, 1L)) - 1L), `+`))
}

# Fewer than 20 clusters deserve a word that fits what is done about it.
check_did_clusters <- function(count, name, asked, single, call) {
  if (count < 2L) {
    abort_input(c("A clustered standard error needs at least 2 clusters.",
                  x = "{.val {name}} has {count} among the units in use."), call = call)
  }
  if (count >= 20L || asked$inference %in% c("wild", "randomization") || asked$small_sample == "CR2") {
    return(invisible(count))
  }
  if (asked$inference == "bootstrap") {
    return(warn_kind("few_clusters", c(
      "Only {count} clusters in {.val {name}}: draws of so few say little about the tails.",
      i = if (asked$interval == "percentile") "Percentile intervals tend to be too short; {.code interval = \"normal\"}
                                               takes account of the number of clusters." else
        "Compare with {.code inference = \"randomization\"}."
    )))
  }
  warn_kind("few_clusters", c(
    if (single) "Only {count} clusters in {.val {name}}: clustered standard errors tend to be too small." else
      "Only {count} clusters in {.val {name}}.",
    i = if (!single) {
      "Standard errors are made cohort by cohort, with degrees of freedom to match; wide intervals say how little is
       known."
    } else if (asked$small_sample == "CR3") {
      "CR3 leans to the safe side; intervals use t with {count - 1} degree{?s} of freedom."
    } else if (did_estimators[[asked$estimator]]$regression) {
      "Intervals use t with {count - 1} degree{?s} of freedom; {.code small_sample = \"CR2\"} or {.code inference =
       \"wild\"} do better."
    } else {
      "Intervals use t with {count - 1} degree{?s} of freedom."
    }
  ))
}

few_clusters <- function(effect, found, cluster, asked, call) {
  whole <- cluster_scatter(found, cluster, call)
  out <- core_small_sample(whole$moments, whole$fit$inverse, whole$fit$coefficients, whole$fit$own, asked$small_sample)
  words <- sprintf("%s, %s%s", effect$inference, asked$small_sample, if (asked$small_sample == "CR2")
    sprintf(" with %s degrees of freedom", formatC(out$df, digits = 1, format = "f")) else "")
  amend_effect(effect, vcov = matrix(out$variance, 1L, 1L), df = out$df, inference = words)
}

# The regression's scatter by cluster.
cluster_scatter <- function(found, cluster, call) {
  if (is.null(found$view)) {
    abort_unsupported(c("CR2, CR3 and the wild bootstrap are for unit and period effects alone.",
                        i = "Leave {.arg absorb} out, or use CR1."), call = call)
  }
  view <- found$view
  if (!is.null(view$piece)) {
    abort_unsupported(c("CR2, CR3 and the wild bootstrap need clusters that hold whole groups.",
                        x = "Groups (or cohorts) hold several values of {.val {attr(found$cluster, 'name')}}.",
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
  maps <- found$fit$maps[view$cohort[first]]
  list(fit = found$fit, moments = core_cluster_moments(grams, maps, cluster[first], view$rows$periods + 1L))
}

wild_bootstrap <- function(effect, found, cluster, asked, call) {
  whole <- cluster_scatter(found, cluster, call)
  count <- length(whole$moments$kind)
  kind <- if (is.null(asked$multiplier)) if (count < 10L) "webb" else "rademacher" else asked$multiplier
  exact <- kind == "rademacher" && 2^count <= asked$draws
  sums_of <- function(products) {
    core_wild_sums(whole$moments, whole$fit$scatter, whole$fit$inverse, whole$fit$own, products)
  }
  sums <- sums_of(if (exact) core_given_signs(core_all_signs(count)) else
    core_drawn_signs(asked$draws, kind, asked$seed))
  data <- sums_of(core_given_signs(matrix(1, count, 1L)))
  limits <- core_wild_limits(sums, data, effect$estimate[[1L]], sqrt(effect$vcov[1L, 1L]), asked$level, exact)
  words <- sprintf("%s; p-value and interval by wild cluster bootstrap, %s", effect$inference, if (exact)
    sprintf("all %s sign vectors", count_text(2^count)) else
      sprintf("%s draws (%s, seed %s)", count_text(asked$draws), if (kind == "webb") "Webb's six points" else "signs",
              format(asked$seed)))
  amend_effect(effect, p.value = core_wild_p(sums, data, 0, exact), limits = rbind(limits), inference = words)
}

# Who is treated when, drawn anew among the groups (or units) that are treated as a whole; the sizes of cohorts stay.
# The statistic is the estimate over its standard error. Its interval holds the constant effects that are not rejected:
# taking an effect off the observed treatment moves every draw's estimate by its estimate of that treatment. draws:
# list(level: what is treated as a whole, per unit; y; exact).
randomise_timing <- function(effect, panel, y, asked, call) {
  level <- if (!is.null(panel$group)) panel$group else if (panel$repeats) seq_along(panel$cohort)
  if (is.null(level)) {
    abort_input(c("Randomization inference needs to know what is treated as a whole.",
                  i = "Name {.arg group} in {.fn frame_panel}."), call = call)
  }
  first <- which(!duplicated(level))
  assigned <- panel$cohort[first]
  stratum <- assignment_strata(panel)[assigned]
  count <- core_assignment_count(assigned, stratum)
  exact <- count <= asked$draws
  drawn <- if (exact) core_stratified_assignments(assigned, stratum) else NULL
  what <- if (!is.null(panel$group)) panel$roles$group else panel$roles$unit
  words <- sprintf("%s; p-value and interval from %s of timing to %s%s", effect$inference,
                   if (exact) sprintf("all %s assignments", count_text(count)) else
                     plural(asked$draws, "random assignment"), plural(length(assigned), what),
                   if (exact) "" else sprintf(" (seed %s)", format(asked$seed)))
  if (length(unique(stratum)) > 1L) words <- paste0(words, ", among those that ", if (is_switching(panel))
    "began alike" else if (is_held(panel)) sprintf("share the path of %s", and_list(panel$held$names)) else
      "this kind could have reached")
  timing <- list(panel = panel, y = y, level = match(level, level[first]), assigned = assigned, stratum = stratum,
                 drawn = drawn,
                 size = if (exact) count else asked$draws, known = new.env(parent = emptyenv()))
  effect <- amend_effect(effect, draws = timing, inference = words)
  overs <- if (is.null(effect$cells)) NULL else c("all", "event", "cohort", "calendar")
  plans <- lapply(stats::setNames(nm = overs), function(over) average_plan(panel, effect$cells, over))
  draw_timing(effect, c(list(NULL), Filter(function(plan) any(plan$post), plans)))
  with_timing_draws(effect, NULL)
}

# Which cohorts could have had each other's date: those that began with the same treatment, whose held treatments run
# alike; those of other kinds of treatment keep theirs.
assignment_strata <- function(panel) {
  cohorts <- panel$cohorts
  code <- rep(1, nrow(cohorts))
  if (is_switching(panel)) code <- match(cohorts$baseline, unique(cohorts$baseline))
  if (is_held(panel)) code <- match(cohorts$path, unique(cohorts$path))
  if (is.null(cohorts$foreign)) code else ifelse(cohorts$foreign, max(code) + seq_along(code), code)
}

# The effect, of cells (plan NULL) or averages of them, with p-values and limits from the assignments.
with_timing_draws <- function(effect, plan) {
  key <- timing_key(plan, effect$over)
  if (is.null(effect$draws$known[[key]])) draw_timing(effect, stats::setNames(list(plan), effect$over))
  found <- effect$draws$known[[key]]
  amend_effect(effect, p.value = found$p.value, limits = found$limits)
}

# Draws the assignments once for several plans (named by what they average over; NULL for cells) and keeps what each
# finds.
draw_timing <- function(effect, plans) {
  timing <- effect$draws
  asked <- effect$asked
  asked$inference <- "analytic"
  treated <- as.double(periods_since(timing$panel) >= 0)
  if (is_switching(timing$panel)) {  # an effect is told in the direction of the switch
    treated <- treated * switch_signs(timing$panel)[timing$panel$cohort[timing$panel$unit]]
  }
  treated[is.na(timing$y)] <- NA
  of_assignment <- function(cohort) {
    moved <- amend(timing$panel, cohort = cohort[timing$level])
    unlist(tryCatch(suppressWarnings({
      found <- lapply(list(timing$y, treated, timing$y - treated), function(y) {
        estimated_timing(effect, moved, y, asked)
      })
      Map(function(plan, over) timing_terms(effect, found, plan, over), plans, rlang::names2(plans))
    }), twin_error = function(e) rep(NA_real_, sum(sizes))))
  }
  sizes <- 5L * vapply(plans, function(plan) timing_size(effect, plan), 0L)
  one <- function(k) {
    of_assignment(if (!is.null(timing$drawn)) timing$drawn[, k] else
      with_own_seed(sub_seed(asked$seed, "timing", k), core_draw_assignment(timing$assigned, timing$stratum)))
  }
  draws <- run_draws("Assignments", timing$size, sum(sizes), one)
  observed <- of_assignment(timing$assigned)
  for (k in seq_along(plans)) {
    size <- sizes[k] %/% 5L
    found <- lapply(seq_len(size), function(j) {
      at <- sum(sizes[seq_len(k - 1L)]) + j + size * (0:4)
      core_timing_test(draws[, at, drop = FALSE], observed[at], effect$level, !is.null(timing$drawn))
    })
    result <- list(p.value = vapply(found, `[[`, 0, "p.value"), limits = t(vapply(found, `[[`, c(0, 0), "limits")))
    assign(timing_key(plans[[k]], rlang::names2(plans)[k]), result, envir = timing$known)
  }
}

timing_key <- function(plan, over) rlang::hash(if (!is.null(plan)) list(over, plan$sets))

# How many terms a plan has: its averages, and their mean where there are several kinds.
timing_size <- function(effect, plan) {
  if (is.null(plan)) return(nrow(if (is.null(effect$cells)) effect$table else effect$cells))
  length(plan$sets) + !identical(plan$values, 1)
}

# Of each term: estimate on the outcome and on the observed treatment; variances on both, and on their difference, from
# those of the cells (sizes of cohorts taken as given: under random assignment they are). found: of the three.
timing_terms <- function(effect, found, plan, over) {
  parts <- lapply(found, function(found) {
    terms <- list(estimate = found$estimate, combine = diag(length(found$estimate)))
    if (!is.null(plan)) {
      terms <- did_averages(amend(effect, size = found$size, fixed = found$fixed), plan, over, found$size,
                            ifelse(is.na(found$estimate), 0, found$estimate))
    }
    gone <- is.na(diag(found$vcov))
    vcov <- replace(found$vcov, is.na(found$vcov), 0)
    variance <- colSums(terms$combine * (vcov %*% terms$combine))
    variance[colSums(terms$combine[gone, , drop = FALSE] != 0) > 0] <- NA_real_
    list(estimate = unname(terms$estimate), variance = variance)
  })
  c(parts[[1L]]$estimate, parts[[2L]]$estimate, parts[[1L]]$variance, parts[[2L]]$variance, parts[[3L]]$variance)
}

# An estimate under an assignment, with the covariance of its cells.
estimated_timing <- function(effect, panel, y, asked) {
  found <- estimate_did(panel, y, asked)
  own <- diag(length(found$estimate))
  found$vcov <- if (is.null(found$cells)) {
    core_source_vcov(found$source, own, NULL, effect$cluster, effect$clusters)
  } else {
    core_cohort_vcov(found$source, own, NULL, effect$cluster, lending_blocks(panel, found$source))$vcov
  }
  found
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
        i = "They stay in the table with their reason; first: {.val {first_rows(failed$term)}}.",
        i = if (any(grepl("seen in both", names(reasons))) && effect$asked$unseen == "drop" &&
                  effect$asked$adjustment == "none" && "unseen" %in% did_estimators[[effect$estimator]]$arguments) {
          "{.code unseen = \"earlier\"} measures units that were away just before their onset from the last period they
           were seen."
        }
      ), terms = failed$term)
    }
  }
  labels <- effect$alone
  if (!is.null(effect$draws$placebos)) return(invisible(effect))  # ranked, which needs no errors
  if (length(labels) > 0L) {
    warn_kind("tiny_cohort", c(
      "{cli::qty(length(labels))}Cohort{?s} {.val {labels}} {?has/each have} a single {effect$cluster_name}, and so no
       variance of {?its/their} own.",
      x = if (effect$lent) {
        "Standard errors borrow that of the other treated cohorts, which assumes equal variances."
      } else if (is_own_remote(effect$study)) {
        "Sums over units can't lend one: effects that rest on {cli::qty(length(labels))}{?it/them} have no standard
         error."
      } else {
        "No other cohort can lend one: effects that rest on {cli::qty(length(labels))}{?it/them} have no standard
         error."
      },
      i = if (is_own_remote(effect$study)) {
        "With {.code group = \"{effect$cluster_name}\"} in {.fn frame_panel} units are told apart, and other cohorts
         lend theirs; or merge cohorts."
      } else {
        "{.code inference = \"randomization\"} needs neither; or merge cohorts."
      }
    ), cohorts = labels)
  }
  lone <- if (!is.null(cells$alone)) cells$term[cells$alone]
  if (length(lone) > 0L) {
    warn_kind("no_error", c(
      "{.val {lone}} {?rests/rest} on the only treated unit of a dose, and {?has/have} no standard error.",
      i = "Join doses into classes, or ask for fewer {.arg knots}, so that several units tell each part of the curve."
    ), terms = lone)
  }
  without_error <- is.na(diag(effect$vcov)) & !is.na(cells$estimate) & cells$kind != "base" & !cells$term %in% lone
  if (any(without_error) && (length(labels) == 0L || effect$lent)) {
    warn_kind("no_error", c(
      "{sum(without_error)} estimate{?s} {?has/have} no standard error: nothing varies that {?it/they} could be measured
       by.",
      i = "A variance of 0 is no certainty. Look at the outcome, and at how many clusters ({effect$cluster_name}) there
           are."
    ), terms = cells$term[without_error])
  }
}

# Which cohorts borrow, or have no error: for prints.
alone_note <- function(x) {
  if (length(x$alone) == 0L) return(NULL)
  sprintf("Cohort%s %s of a single %s: %s.", if (length(x$alone) == 1L) "" else "s",
          and_list_verb(x$alone, "is", "are"), x$cluster_name,
          if (x$lent) "standard errors borrow the variance of the other treated cohorts, as if all varied alike" else
            "no standard error where it matters")
}
