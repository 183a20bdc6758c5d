# Timings of treatment with few or small cohorts, and noise. cohorts: how many units start when (0: never).
timings <- list(
  "50 units, two single cohorts" = list(periods = 11L, starts = rep(c(4, 7, 8, 9, 10, 0), c(1, 13, 4, 2, 1, 29))),
  "one cohort of 13 against 29" = list(periods = 11L, starts = rep(c(7, 0), c(13, 29))),
  "60 units, four cohorts" = list(periods = 16L, starts = rep(c(5, 8, 11, 14, 0), c(10, 10, 10, 10, 20))),
  "4 against 4" = list(periods = 9L, starts = rep(c(6, 0), c(4, 4)))
)
noises <- list(
  "independent" = function(n, t, treated) matrix(stats::rnorm(n * t), t),
  "autoregressive 0.8" = function(n, t, treated) {
    raw <- apply(matrix(stats::rnorm(n * (t + 20L)), t + 20L), 2L, stats::filter, 0.8, "recursive")
    raw[-(1:20), ] * 0.6
  },
  "treated twice the sd" = function(n, t, treated) sweep(matrix(stats::rnorm(n * t), t), 2L, 1 + treated, `*`)
)

# drift: what treated units drift by over the mean time before treatment.
draw_timing <- function(timing, noise, seed, drift = 0) {
  shape <- timings[[timing]]
  n <- length(shape$starts)
  withr::with_seed(seed, {
    treated <- shape$starts > 0
    level <- stats::rnorm(n)
    data <- expand.grid(time = seq_len(shape$periods), unit = seq_len(n))
    before <- mean(shape$starts[treated] - 1)
    data$y <- as.vector(noises[[noise]](n, shape$periods, treated)) + level[data$unit] + 0.1 * data$time +
      drift * data$time / before * treated[data$unit]
    data$start <- ifelse(treated, shape$starts, NA)[data$unit]
    frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start")
  })
}

try_trends <- function(timing, noise, seed) {
  suppressWarnings({
    panel <- draw_timing(timing, noise, seed)
    tests <- generics::tidy(assess_trends(panel))
    drifted <- lapply(1:2, function(drift) assess_trends(draw_timing(timing, noise, seed, drift), slope = 2 / mean_before(timing)))
    path <- generics::tidy(summarise_did(measure_did(panel, base = "fixed"), "event"))
    path <- path[path$kind != "base" & path$term != "average", ]
    list(tests = c(tests$p.value[tests$test == "joint"], tests$p.value[tests$test == "common drift"],
                   vapply(drifted, function(x) generics::glance(x)$p.value, 0)) < 0.05,
         said = generics::glance(drifted[[2L]])$power,
         holds = stats::setNames(ifelse(path$reach >= 0.5, path$conf.low < 0 & path$conf.high > 0, NA), path$event_time),
         band = all(path$band.low < 0 & path$band.high > 0, na.rm = TRUE))
  })
}

mean_before <- function(timing) {
  starts <- timings[[timing]]$starts
  mean(starts[starts > 0] - 1)
}

summarise_trends <- function(found) {
  tests <- rowMeans(vapply(found, `[[`, logical(4L), "tests"))
  holds <- rowMeans(do.call(cbind, lapply(found, `[[`, "holds")))
  data.frame(draws = length(found), size = tests[1L], drift_size = tests[2L], power_1 = tests[3L], power_2 = tests[4L],
             power_said = mean(vapply(found, `[[`, 0, "said")), path_coverage = min(holds, na.rm = TRUE),
             band_coverage = mean(vapply(found, `[[`, NA, "band")))
}
