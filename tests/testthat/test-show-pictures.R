# Texts of every kind of picture, measured: none leaves it and none covers another, at the size of a page, of a report
# and of a column, with long names.
pictures <- function(data, covariates) {
  study <- frame_study(data, "joined", c("income", "direct"), covariates, cluster = "harbour")
  scored <- score_units(study)
  pairs <- pair_units(scored, caliper = 0.2)
  weights <- weigh_units(scored)
  matched <- measure_effect(pairs, "income")
  augmented <- measure_effect(weights, "income", estimator = "augmented")
  list(
    balance = plot(assess_balance(weights)), designs = plot(assess_balance(list(pairs = pairs, weights = weights))),
    ratios = plot(assess_balance(weights), "ratios"), overlap = plot(assess_overlap(pairs)),
    weights = plot(assess_weights(weights)), held = plot(assess_weights(weights), "concentration"),
    calibration = plot(assess_score(scored)), matched = plot(pairs), distances = plot(pairs, view = "distances"),
    effect = plot(augmented), groups = plot(describe_groups(study)), power = plot(assess_power(weights)),
    compared = plot(compare_effects("not adjusted at all, everybody with everybody" = measure_effect(study, "income"),
                                    pairs = matched, augmented = augmented, truth = 2)),
    by = plot(measure_effect(weights, "income", by = "port")), pairs = plot(probe_pairs(matched)),
    every = plot(probe_effect(augmented, draws = 0)), odds = plot(probe_weights(augmented, draws = 0)),
    omitted = plot(probe_omitted(augmented)), ratio = plot(probe_ratio(augmented)),
    choices = plot(probe_choices(matched, caliper = c(0.1, 0.2)))
  )
}

long_names <- function() {
  data <- many_crews()
  data$port <- c(small = "a harbour of the smallest class, one quay", large = "a harbour of the largest class, more quays",
                 medium = "a harbour of the middle class, two quays")[data$port]
  attr(data$boat, "label") <- "length of the boat over all, as registered"
  data
}

expect_no_faults <- function(plots, sizes) {
  for (name in names(plots)) for (size in sizes) {
    faults <- suppressWarnings(text_faults(plots[[name]], size[1], size[2]))
    expect_identical(faults, character(), label = sprintf("%s at %s x %s", name, size[1], size[2]))
  }
}

test_that("no text of a picture is clipped or covered, with short names and with long ones", {
  expect_no_faults(suppressWarnings(pictures(long_names(), ~ boat + past + port)), list(c(8, 5)))
  plots <- suppressWarnings(pictures(many_crews(), ~ boat + past + port))
  expect_no_faults(plots[setdiff(names(plots), c("omitted", "distances"))], list(c(5, 3.5)))
})

test_that("pictures over time and of graphs keep their texts apart too", {
  panel <- harbour_panel()
  cells <- measure_did(panel, base = "fixed")
  path <- summarise_did(cells, "event")
  graph <- assume_graph("digraph { a_cause -> {joined income}; joined -> income; mood -> {a_cause income} }",
                        exposure = "joined", outcome = "income", unobserved = "mood")
  plots <- list(timing = plot(panel), means = plot(panel, "means"), event = plot(panel, "event"), cells = plot(cells),
                path = plot(path), cohorts = plot(summarise_did(cells, "cohort")), trends = plot(assess_trends(panel)),
                drift = plot(probe_trends(path)), parts = plot(decompose_did(panel)),
                graph = plot(graph, adjusted = "a_cause"))
  expect_no_faults(plots, list(c(8.9, 5.6)))
})

test_that("the check of texts finds what is wrong", {
  data <- data.frame(x = 1:2, y = 1:2)
  clipped <- ggplot2::ggplot(data, ggplot2::aes(x, y)) + ggplot2::labs(title = strrep("a long title ", 20))
  expect_match(text_faults(clipped), "leaves the picture", all = FALSE)
  covered <- ggplot2::ggplot(data, ggplot2::aes(x, y)) + ggplot2::geom_point() +
    ggplot2::annotate("text", x = 1, y = c(1, 1.001), label = c("one text", "another"))
  expect_match(text_faults(covered), "covers", all = FALSE)
  expect_identical(text_faults(clipped + theme_twin()), character())
  formula <- ggplot2::ggplot(data, ggplot2::aes(x, y)) + ggplot2::labs(title = quote(alpha^2)) + theme_twin()
  expect_s3_class(ggplot2::ggplotGrob(formula), "gtable")
  expect_error(theme_twin(0), class = "twin_error_input")
})

# Lightness of a colour in CIELAB.
lightness <- function(colours) grDevices::convertColor(t(grDevices::col2rgb(colours)) / 255, "sRGB", "Lab")[, 1]

# As seen without red or without green receptors (Vienot, Brettel and Mollon 1999).
as_seen <- function(colours, kind) {
  to_lms <- matrix(c(17.8824, 3.45565, 0.0299566, 43.5161, 27.1554, 0.184309, 4.11935, 3.86714, 1.46709), 3)
  cut <- list(protan = matrix(c(0, 0, 0, 2.02344, 1, 0, -2.52581, 0, 1), 3),
              deutan = matrix(c(1, 0.494207, 0, 0, 0, 0, 0, 1.24827, 1), 3))[[kind]]
  linear <- (t(grDevices::col2rgb(colours)) / 255)^2.2
  seen <- t(solve(to_lms) %*% cut %*% to_lms %*% t(linear))
  grDevices::convertColor(pmin(pmax(seen, 0), 1)^(1 / 2.2), "sRGB", "Lab")
}

test_that("both arms, and what is before and after, are told apart in grey and by the colour-blind", {
  pairs <- list(arms = unname(twin_colours[c("treated", "control")]),
                stages = unname(stage_fills[c("before", "under treatment")]), band = c(twin_colours[["treated"]], "#DCEBEA"))
  for (name in names(pairs)) {
    expect_gt(abs(diff(lightness(pairs[[name]]))), 20, label = name)
    for (kind in c("protan", "deutan")) expect_gt(stats::dist(as_seen(pairs[[name]], kind)), 25, label = name)
  }
})

test_that("a picture of one effect shows both arms and the difference; event times say who carries them", {
  effect <- measure_effect(weigh_units(score_units(study_of_many())))
  drawn <- ggplot2::layer_data(plot(effect), 3)
  expect_equal(sort(drawn$x), sort(unname(effect$estimate[c("mean_treated", "mean_control", "difference")])))
  cells <- measure_did(harbour_panel(), base = "fixed")
  path <- summarise_did(cells, "event")
  label <- carried_labels(path)(0)
  units <- sum(tidy(cells)$n_treated[tidy(cells)$event_time %in% 0])
  expect_match(label, sprintf("^0\n%d in ", units))
})
