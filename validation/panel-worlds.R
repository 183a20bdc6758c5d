# Panels with known truth for the Monte Carlo study: three cohorts and never treated, effects that grow and differ by
# cohort, serially correlated noise.

# kind: "plain" (trends parallel), "covariate" (parallel only given `depth`, which also moves treatment), "crossing" (other
# units each time, groups of harbours treated), "few" (12 clusters of unequal size).
draw_panel <- function(kind, seed, ...) {
  switch(kind, switching = draw_switches(seed), dose = draw_doses(seed), thirds = draw_thirds(seed),
         draw_timing(kind, seed, ...))
}

serial_noise <- function(periods, units) {
  as.vector(apply(matrix(stats::rnorm(units * periods), periods), 2L, stats::filter, 0.5, "recursive"))
}

# Treatment that begins on or off, first changes in 4, 5 or 7, and goes back after two periods in half of the units. 1
# while it is on and 0.5 in the period after; those that begin with it have a trend of their own. effect: in the
# direction of the first switch.
draw_switches <- function(seed, units = 200L, periods = 8L) {
  withr::with_seed(seed, {
    begins <- stats::runif(units) < 0.4
    first <- sample(c(4, 5, 7, NA), units, TRUE, c(0.2, 0.2, 0.2, 0.4))
    lasts <- sample(c(2, Inf), units, TRUE)
    data <- expand.grid(time = seq_len(periods), unit = seq_len(units))
    at <- data$unit
    moved <- !is.na(first[at]) & data$time >= first[at] & data$time < first[at] + lasts[at]
    since <- data$time - first[at]
    data$on <- as.integer(xor(begins[at], moved))
    before <- c(0, data$on[-nrow(data)])
    before[data$time == 1] <- begins
    own <- data$on + 0.5 * before
    data$after <- !is.na(since) & since >= 0
    data$effect <- ifelse(data$after, ifelse(begins[at], -1, 1) * (own - 1.5 * begins[at]), 0)  # 0 again once all is back
    data$y <- stats::rnorm(units)[at] + 0.1 * data$time * (1 + begins[at]) + own + serial_noise(periods, units)
    data$start <- first[at]
    data
  })
}

# A dose from 0.5 to 3, larger in units that lie higher, for good.
dose_effect <- function(dose) 0.5 * dose + 0.2 * dose^2
draw_doses <- function(seed, units = 200L, periods = 8L) {
  withr::with_seed(seed, {
    level <- stats::rnorm(units)
    start <- sample(c(4L, 5L, 7L, NA), units, TRUE)
    dose <- round(0.5 + 2.5 * stats::plogis(level + stats::rnorm(units)), 2)
    data <- expand.grid(time = seq_len(periods), unit = seq_len(units))
    at <- data$unit
    on <- !is.na(start[at]) & data$time >= start[at]
    data$dose <- ifelse(on, dose[at], 0)
    data$effect <- ifelse(on, dose_effect(dose[at]), 0)
    data$y <- level[at] + 0.1 * data$time + data$effect + serial_noise(periods, units)
    data$start <- start[at]
    data
  })
}

# Cohorts with trends of their own, of which differently many are affected; between those affected and the others of a
# cohort trends differ alike everywhere, given `depth`.
draw_thirds <- function(seed, units = 400L, periods = 8L) {
  withr::with_seed(seed, {
    start <- sample(c(4L, 6L, NA), units, TRUE)
    depth <- stats::rnorm(units)
    shift <- ifelse(is.na(start), -0.6, ifelse(start == 4L, 0.6, 0))
    third <- stats::rbinom(units, 1L, stats::plogis(shift + 0.7 * depth))
    own <- ifelse(is.na(start), 0, ifelse(start == 4L, 0.3, -0.2))
    data <- expand.grid(time = seq_len(periods), unit = seq_len(units))
    at <- data$unit
    data[c("start", "depth", "third")] <- list(start[at], depth[at], third[at])
    since <- data$time - data$start
    data$effect <- ifelse(!is.na(since) & since >= 0 & data$third == 1, 1 + 0.2 * since, 0)
    trend <- own[at] + 0.2 * data$third + 0.15 * data$depth * (1 + data$third)
    data$y <- stats::rnorm(units)[at] + trend * data$time + data$effect + serial_noise(periods, units)
    data
  })
}

draw_timing <- function(kind, seed, units = if (kind == "few") 48L else 200L, periods = 8L) {
  withr::with_seed(seed, {
    depth <- stats::rnorm(units)
    cluster <- switch(kind, few = sample.int(12L, units, replace = TRUE, prob = 1:12), crossing = seq_len(units) %% 50L + 1L,
                      seq_len(units))
    codes <- unique(cluster)
    chance <- if (kind == "covariate") stats::plogis(depth) else rep(0.6, units)
    treated <- stats::runif(units) < chance
    start <- ifelse(treated, sample(c(4L, 5L, 7L), units, replace = TRUE), NA)
    if (kind %in% c("few", "crossing")) start <- sample(rep(c(4L, 5L, 7L, NA), length.out = length(codes)))[match(cluster,
                                                                                                         codes)]
    data <- expand.grid(time = seq_len(periods), unit = seq_len(units))
    since <- data$time - start[data$unit]
    # alike in the world of few clusters, so that the two-way regression estimates the same
    size <- if (kind == "few") 1 else 1 + 0.3 * since - 0.1 * start[data$unit]
    effect <- ifelse(!is.na(since) & since >= 0, size, 0)
    noise <- serial_noise(periods, units)
    shared <- if (kind %in% c("few", "crossing")) {
      apply(matrix(stats::rnorm(length(codes) * periods, sd = 0.5), periods), 2L, stats::filter, 0.5, "recursive")
    }
    trend <- if (kind == "covariate") 0.2 * depth[data$unit] * data$time else 0
    data$y <- stats::rnorm(units)[data$unit] + 0.1 * data$time + trend + effect + noise
    if (!is.null(shared)) data$y <- data$y + shared[cbind(data$time, match(cluster, codes)[data$unit])]
    data$start <- start[data$unit]
    data$depth <- depth[data$unit]
    data$cluster <- cluster[data$unit]
    data$effect <- effect
    if (kind == "crossing") data$unit <- seq_len(nrow(data))
    data
  })
}

frame_world <- function(data, kind) {
  switch(kind,
    switching = frame_panel(data, outcome = "y", time = "time", unit = "unit", treatment = "on", switching = TRUE),
    dose = frame_panel(data, outcome = "y", time = "time", unit = "unit", dose = "dose"),
    thirds = frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start", covariates = ~ depth),
    crossing = frame_panel(data, outcome = "y", time = "time", group = "cluster", first_treated = "start"),
    few = frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start", cluster = "cluster"),
    covariate = frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start", covariates = ~ depth),
    frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start"))
}

# The ways of measuring, by name.
panel_ways <- function(kind) {
  cells <- function(...) function(panel) measure_did(panel, ...)
  regressions <- list(
    "two-way" = cells(estimator = "two_way", adjustment = "none"),
    "two-way, CR2" = cells(estimator = "two_way", adjustment = "none", small_sample = "CR2"),
    "two-way, wild" = cells(estimator = "two_way", adjustment = "none", inference = "wild", draws = 999)
  )
  plain <- list(
    "group-time, never" = cells(adjustment = "none", base = "fixed"),
    "group-time, not yet" = cells(adjustment = "none", base = "fixed", comparison = "not_yet"),
    "imputation" = cells(estimator = "imputation", adjustment = "none"),
    "interaction" = cells(estimator = "interaction", adjustment = "none")
  )
  adjusted <- list("group-time, regression" = cells(adjustment = "regression", base = "fixed"),
                   "group-time, ipw" = cells(adjustment = "ipw", base = "fixed"),
                   "group-time, augmented" = cells(adjustment = "augmented", base = "fixed"))
  carried <- list("design for each cohort, weights" = carried_way(TRUE, function(study) weigh_units(score_units(study))),
                  "design for each cohort, pairs" = carried_way(TRUE, function(study) pair_units(score_units(study), caliper = 0.2)),
                  "one design, weights" = carried_way(FALSE, function(study) weigh_units(score_units(study))),
                  "one design, pairs" = carried_way(FALSE, function(study) pair_units(score_units(study), caliper = 0.2)),
                  "one design, full matching" = carried_way(FALSE, function(study) group_units(score_units(study), "full")))
  thirds <- function(adjustment) cells(estimator = "triple", third = "third", adjustment = adjustment, base = "fixed",
                                       comparison = "not_yet")
  switch(kind, switching = list("switchers, not yet" = cells()),
         dose = list("effects by dose" = cells(estimator = "dose", doses = c(1, 1.5, 2, 2.5))),
         thirds = list("triple, unadjusted" = thirds("none"), "triple, regression" = thirds("regression"),
                       "triple, ipw" = thirds("ipw"), "triple, augmented" = thirds("augmented")),
         plain = c(plain, regressions[1L]), covariate = c(plain[1L], adjusted, carried), crossing = plain,
         few = c(plain[1L], regressions))
}

# Matched or weighted on `depth` as it was before treatment, then differenced; each: by cohort?
carried_way <- function(each, make) {
  function(panel) {
    design_of <- function(...) {
      rows <- baseline_rows(panel, ...)
      make(frame_study(rows, "treated", "y_after", covariates = "depth", id = "unit"))
    }
    labels <- with(summary(panel), cohort[!is.na(treated_from)])
    design <- if (each) lapply(stats::setNames(nm = labels), function(label) design_of(cohort = label)) else design_of()
    measure_did(frame_panel(panel$data, outcome = "y", time = "time", unit = "unit", first_treated = "start", design = design),
                base = "fixed")
  }
}

# One draw: per way the overall estimate, its interval, and whether the band holds the whole path.
measure_panel <- function(kind, seed) {
  data <- draw_panel(kind, seed)
  panel <- suppressWarnings(frame_world(data, kind))
  treated <- if (is.null(data$after)) data$effect != 0 else data$after
  truth <- mean(data$effect[treated])
  by_event <- tapply(data$effect[treated], (data$time - data$start)[treated], mean)
  rows <- Map(function(way, name) {
    effect <- tryCatch(suppressWarnings(way(panel)), twin_error = function(e) NULL)
    if (is.null(effect)) return(NULL)
    row <- generics::tidy(if (effect$over == "cells") summarise_did(effect) else effect)
    if (effect$over == "dose") return(measured_doses(row, data, kind, name))
    held <- NA
    pointwise <- NA
    if (effect$over == "cells") {
      path <- generics::tidy(suppressWarnings(summarise_did(effect, "event")))
      path <- path[path$term != "average" & path$kind != "base", ]
      true <- ifelse(path$event_time < 0, 0, by_event[as.character(path$event_time)])
      held <- all(path$band.low <= true & true <= path$band.high)
      pointwise <- mean(path$conf.low <= true & true <= path$conf.high)
    }
    data.frame(world = kind, way = name, estimate = row$estimate, std.error = row$std.error, truth = truth,
               holds = row$conf.low <= truth & truth <= row$conf.high, length = row$conf.high - row$conf.low, band = held,
               path = pointwise)
  }, panel_ways(kind), names(panel_ways(kind)))
  do.call(rbind, unname(rows))
}

# The mean effect with the effects at doses as its path, and the mean slope with the slopes.
measured_doses <- function(table, data, kind, name) {
  dose <- data$dose[data$dose > 0]
  parts <- lapply(c("effect", "slope"), function(what) {
    true <- function(dose) if (what == "effect") dose_effect(dose) else 0.5 + 0.4 * dose
    row <- table[table$term == c(effect = "average", slope = "average slope")[[what]], ]
    path <- table[table$what == what & !is.na(table$dose), ]
    held <- path$conf.low <= true(path$dose) & true(path$dose) <= path$conf.high
    truth <- mean(true(dose))
    data.frame(world = kind, way = if (what == "effect") name else "slopes by dose", estimate = row$estimate,
               std.error = row$std.error, truth = truth, holds = row$conf.low <= truth & truth <= row$conf.high,
               length = row$conf.high - row$conf.low,
               band = if (what == "slope") NA else all(path$band.low <= true(path$dose) & true(path$dose) <= path$band.high),
               path = mean(held))
  })
  do.call(rbind, parts)
}

summarise_panels <- function(draws) {
  out <- lapply(split(draws, paste(draws$world, draws$way)), function(rows) {
    data.frame(world = rows$world[1L], way = rows$way[1L], draws = nrow(rows), bias = mean(rows$estimate - rows$truth),
               spread = stats::sd(rows$estimate - rows$truth),
               se_ratio = mean(rows$std.error) / stats::sd(rows$estimate - rows$truth), coverage = mean(rows$holds),
               path_coverage = mean(rows$path), band_coverage = mean(rows$band))
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}
