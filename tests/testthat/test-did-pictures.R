# Pictures of panels and effects over time: what they show is what was measured.

drawn <- function(plot, k) ggplot2::layer_data(plot, k)

layer_of <- function(plot, geom) which(vapply(plot$layers, function(layer) inherits(layer$geom, geom), NA))[1L]

test_that("means have intervals of cluster means, where ribbons can be told apart", {
  data <- many_harbours(60)
  picture <- plot(harbour_panel(data, cluster = "bay"), "means")
  ribbon <- drawn(picture, layer_of(picture, "GeomRibbon"))
  at <- data$opened %in% 2003 & data$year == 2002
  by_bay <- tapply(data$price[at] - mean(data$price[at]), data$bay[at], sum)
  se <- sqrt(sum(by_bay^2) * length(by_bay) / (length(by_bay) - 1)) / sum(at)
  limits <- mean(data$price[at]) + c(-1, 1) * qt(0.975, length(by_bay) - 1) * se
  expect_true(any(abs(ribbon$ymin - limits[1L]) < 1e-8 & abs(ribbon$ymax - limits[2L]) < 1e-8))
  expect_match(picture$labels$subtitle, "Shaded: 95% interval")
})

# Fourteen cohorts in twenty periods.
staggered <- function() {
  withr::with_seed(2, {
    data <- expand.grid(time = 1:20, unit = 1:90)
    start <- rep(c(4:17, NA), 6)
    data$start <- start[data$unit]
    data$y <- data$unit / 30 + ifelse(!is.na(data$start) & data$time >= data$start, 2, 0) + rnorm(nrow(data), sd = 0.3)
    frame_panel(data, outcome = "y", time = "time", unit = "unit", first_treated = "start")
  })
}

test_that("many cohorts stay readable: a map of cells, points for starts, no ribbons", {
  panel <- staggered()
  means <- plot(panel, "means")
  expect_true(is.na(layer_of(means, "GeomRibbon")))
  expect_match(means$labels$subtitle, "point on its line")
  starts <- drawn(means, layer_of(means, "GeomPoint"))
  expect_setequal(starts$x, 4:17)
  cells <- measure_did(panel)
  map <- plot(cells)
  expect_false(is.na(layer_of(map, "GeomTile")))
  expect_identical(nrow(drawn(map, layer_of(map, "GeomTile"))), sum(!is.na(tidy(cells)$estimate)))
  table <- tidy(cells)
  expect_identical(nrow(drawn(map, layer_of(map, "GeomPoint"))),
                   sum(!is.na(table$conf.low) & (table$conf.low > 0 | table$conf.high < 0)))
  expect_true(is.na(layer_of(plot(measure_did(harbour_panel())), "GeomTile")))
})

test_that("each cohort stands beside what it would have been: its mean less the effect", {
  data <- many_harbours(60, gaps = TRUE)
  cells <- suppressWarnings(measure_did(suppressWarnings(harbour_panel(data))))
  picture <- plot(cells, view = "paths")
  rows <- picture$data
  without <- rows[rows$side == "without treatment" & rows$cohort == 2 & rows$time == 5, ]
  at <- data$opened %in% 2004 & data$year == 2005
  expect_equal(without$value, mean(data$price[at], na.rm = TRUE) - cell_of(cells, "2004", "2005")$estimate)
  base <- rows[rows$cohort == 2 & rows$time == 3, ]
  expect_equal(base$value[1L], base$value[2L])  # both paths start from the last period before treatment
  expect_false(any(rows$side == "without treatment" & rows$cohort == 2 & rows$time < 3))
  expect_s3_class(plot(measure_did(harbour_panel(), estimator = "imputation"), view = "paths"), "ggplot")
  expect_error(plot(summarise_did(cells), view = "paths"), "cells of each cohort", class = "twin_error_input")
  expect_error(plot(cells, view = "gaps"), "synthetic", class = "twin_error_input")
})

test_that("bounds on the path are those of each effect by itself", {
  cells <- measure_did(harbour_panel(), base = "fixed")
  for (violation in c("magnitude", "curvature")) {
    probe <- probe_trends(cells, violation, m = c(0, 0.5, 1), interval = "direct")
    path <- tidy(probe, part = "path")
    one <- probe_trends(cells, violation, m = c(0, 0.5, 1), at = 1, interval = "direct")
    own <- path[path$event_time == 1 & !is.na(path$m), ]
    expect_equal(own$conf.low, tidy(one)$conf.low)
    expect_equal(own$conf.high, tidy(one)$conf.high)
    event <- tidy(summarise_did(cells, "event"))
    plain <- path[is.na(path$m), ]
    expect_equal(plain$conf.low, event$conf.low[match(plain$event_time, event$event_time)])
    picture <- plot(probe, view = "path")
    expect_identical(length(unique(drawn(picture, layer_of(picture, "GeomRibbon"))$fill)), 3L)
  }
})
