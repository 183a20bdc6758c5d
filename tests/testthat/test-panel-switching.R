# Boats whose engines come and go; `effect` per year with an engine, `kept` of last year's carried over.
switching_boats <- function(n = 80, seed = 1, effect = 1, kept = 0, noise = 0.4, periods = 7L) {
  with_own_seed(seed, {
    start <- rbinom(n, 1, 0.3)
    first <- sample(c(3, 5, NA), n, TRUE, c(0.3, 0.3, 0.4))
    lasts <- sample(c(1, 2, Inf), n, TRUE)
    data <- expand.grid(year = seq_len(periods), boat = sprintf("boat %02d", seq_len(n)), stringsAsFactors = FALSE)
    at <- match(data$boat, unique(data$boat))
    away <- !is.na(first[at]) & data$year >= first[at] & data$year < first[at] + lasts[at]
    data$engine <- ifelse(away, 1 - start[at], start[at])
    before <- c(NA, head(data$engine, -1))
    before[data$year == 1] <- start
    data$catch <- rnorm(n)[at] + 0.2 * data$year + 0.1 * data$year * start[at] + effect * data$engine +
      kept * effect * before + rnorm(nrow(data), sd = noise)
    data
  })
}

switching_panel <- function(data, ...) {
  frame_panel(data, "engine", "catch", "year", "boat", switching = TRUE, ...)
}

test_that("switchers are compared with units of the same history so far: by hand on six boats", {
  data <- data.frame(
    boat = rep(letters[1:6], each = 4), year = rep(1:4, 6),
    engine = c(0, 0, 1, 0, 0, 0, 1, 1, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 0, 1, 1, 1, 1, 1),
    catch = c(1, 2, 9, 4, 2, 2, 7, 8, 3, 5, 4, 4, 1, 1, 2, 9, 8, 9, 3, 9, 5, 5, 7, 8)
  )
  panel <- switching_panel(data)
  expect_identical(summary(panel)$cohort, c("3 on", "3 off", "4 on", "stays off", "stays on"))
  expect_warning(expect_warning(cells <- measure_did(panel), class = "twin_warning_tiny_cohort"),
                 class = "twin_warning_few_clusters")
  # a and b switch on in 3; c stays, d has not switched yet in 3
  expect_equal(cell_of(cells, "3 on", "3")$estimate, mean(c(9 - 2, 7 - 2)) - mean(c(4 - 5, 2 - 1)))
  expect_equal(cell_of(cells, "3 on", "4")$estimate, mean(c(4 - 2, 8 - 2)) - (4 - 5))  # a is back, and still counts
  expect_equal(cell_of(cells, "4 on", "4")$estimate, (9 - 2) - (4 - 4))
  # e switches off, f stays on: the sign is turned
  expect_equal(cell_of(cells, "3 off", "3")$estimate, -((3 - 9) - (7 - 5)))
  expect_equal(cell_of(cells, "3 off", "4")$estimate, -((9 - 9) - (8 - 5)))
  # placebos are measured from the same base
  expect_equal(cell_of(cells, "3 on", "1")$estimate, mean(c(1 - 2, 2 - 2)) - mean(c(3 - 5, 1 - 1)))
  path <- tidy(suppressWarnings(summarise_did(cells, "event")))
  sizes <- c(2, 1, 1)
  first_year <- c(cell_of(cells, "3 on", "3")$estimate, cell_of(cells, "4 on", "4")$estimate,
                  cell_of(cells, "3 off", "3")$estimate)
  expect_equal(path$estimate[path$term == "event 0"], sum(sizes * first_year) / 4)
  expect_equal(path$changed[path$term == "event 0"], 1)
  expect_equal(path$changed[path$term == "event 1"], mean(c(0, 1, 0)))  # a and e are back, b is not
  expect_equal(path$so_far[path$term == "event 1"], mean(c(1, 2, 1)))
  per_year <- tidy(suppressWarnings(summarise_did(cells, "event", normalise = TRUE)))
  at <- path$event_time %in% 1
  expect_equal(per_year$estimate[at], path$estimate[at] / (4 / 3))
  placebo <- path$event_time %in% -2
  expect_equal(per_year$estimate[placebo], path$estimate[placebo])  # by the treatment of one period
  whole <- tidy(suppressWarnings(summarise_did(cells, normalise = TRUE)))
  used <- tidy(cells)[tidy(cells)$kind == "post", ]
  amount <- c(mean(c(1, 1)), mean(c(0, 1)), 1, 1, 0)
  n <- c(2, 2, 1, 1, 1)
  order <- match(c("cohort 3 on, 3", "cohort 3 on, 4", "cohort 4 on, 4", "cohort 3 off, 3", "cohort 3 off, 4"), used$term)
  expect_equal(whole$estimate, sum(n * used$estimate[order]) / sum(n * amount))
})

test_that("where nobody switches back it is the group-time effect", {
  data <- many_harbours(gaps = FALSE)
  data$s <- rep(runif(40, 1, 2), each = 6)
  for (settings in list(list(), list(weight = "s"), list(cluster = "bay"))) {
    plain <- do.call(harbour_panel, c(list(data), settings))
    switching <- do.call(frame_panel, c(list(data, outcome = "price", time = "year", unit = "harbour", treatment = "open",
                                             switching = TRUE), settings))
    a <- measure_did(plain, comparison = "not_yet", base = "fixed")
    b <- measure_did(switching)
    expect_equal(coef(b), coef(a), ignore_attr = TRUE)
    expect_equal(vcov(b), vcov(a), ignore_attr = TRUE)
    same <- c("estimate", "std.error", "conf.low", "band.low")
    expect_equal(tidy(summarise_did(b, "event"))[same], tidy(summarise_did(a, "event"))[same], tolerance = 1e-6)
    expect_equal(tidy(summarise_did(b, normalise = TRUE))[same[1:3]], tidy(summarise_did(a))[same[1:3]])
  }
  covariates <- frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", covariates = "depth",
                            switching = TRUE)
  expect_equal(coef(measure_did(covariates)),
               coef(measure_did(harbour_panel(data, covariates = "depth"), comparison = "not_yet", base = "fixed")),
               ignore_attr = TRUE)
})

test_that("turning on and off around turns the sign, and effects come back to the truth per unit of treatment", {
  data <- switching_boats(400)
  effect <- summarise_did(measure_did(switching_panel(data)), normalise = TRUE)
  expect_lt(abs(coef(effect) - 1), 3 * sqrt(vcov(effect)[1, 1]))
  turned <- measure_did(switching_panel(transform(data, engine = 1 - engine)))
  own <- measure_did(switching_panel(data))
  expect_equal(sum(turned$cells$estimate, na.rm = TRUE), -sum(own$cells$estimate, na.rm = TRUE))
  tenfold <- switching_panel(transform(data, engine = 2 + 10 * engine + (boat == "boat 01")))
  expect_true("3 from 2 up" %in% summary(tenfold)$cohort)
  expect_warning(cells <- measure_did(tenfold), "no units left to compare", class = "twin_warning_cells")
  amounts <- summarise_did(cells, normalise = TRUE)
  expect_equal(unname(coef(amounts)) * 10, unname(coef(effect)), tolerance = 0.02)
  drawn <- summarise_did(measure_did(switching_panel(data), inference = "bootstrap", draws = 199), normalise = TRUE)
  expect_equal(coef(drawn), coef(effect))
  expect_equal(sqrt(vcov(drawn)[1, 1]), sqrt(vcov(effect)[1, 1]), tolerance = 0.2)
})

test_that("the time before the first switch is tested, and carry-over shows", {
  data <- switching_boats(300, kept = 0.5)
  panel <- switching_panel(data)
  expect_gt(tidy(assess_trends(panel))$p.value[1L], 0.01)
  ups <- data[ave(data$engine, data$boat, FUN = function(x) x[1]) == 0, ]
  drifting <- transform(ups, catch = catch + 0.5 * year * (ave(engine, boat, FUN = max) == 1))
  expect_lt(tidy(assess_trends(switching_panel(drifting)))$p.value[1L], 1e-6)
  path <- tidy(summarise_did(measure_did(panel), "event"))
  later <- path$estimate[path$event_time %in% 1:2] / path$changed[path$event_time %in% 1:2]
  expect_true(all(later > 1.4))  # half of the year before is still in it
})

test_that("sentences say what switches, who goes back and what is not done", {
  data <- switching_boats()
  panel <- switching_panel(data)
  text <- paste(format(panel), collapse = " ")
  expect_match(text, "engine switches: [0-9]+ units first switch on, [0-9]+ first switch off, +[0-9]+ are not seen to")
  expect_match(text, "later back where they began")
  one_each <- data.frame(boat = rep(letters[1:4], each = 3), year = 1:3, catch = 1:12,
                         engine = c(0, 1, 0, 1, 0, 0, 0, 0, 0, 1, 1, 1))
  alone <- gsub(" +", " ", paste(format(switching_panel(one_each[1:9, ])), collapse = " "))
  expect_match(alone, "1 unit first switches on, 1 first switches off, 1 is not seen to switch; 1 later back where it began")
  amounts <- switching_panel(transform(one_each, engine = 2 * engine + (boat == "c")))
  expect_match(gsub(" +", " ", paste(format(amounts), collapse = " ")), "1 unit first goes up, 1 first goes down, 2 are not")
  expect_match(text, "units that began alike and +have not switched so far")
  said <- paste(format(summarise_did(measure_did(panel), "event")), collapse = " ")
  expect_match(said, "Where engine is first switched on \\(or off: signs turned\\)")
  expect_match(said, "of the [0-9]+ that switch \\(boat\\) [0-9]+ later go back to +where they began")
  expect_no_match(said, "treated units|never treated")
  ups <- switching_panel(data[ave(data$engine, data$boat, FUN = function(x) x[1]) == 0, ])
  expect_match(paste(format(measure_did(ups)), collapse = " "), "Where engine is first switched on, catch")
  downs <- switching_panel(data[ave(data$engine, data$boat, FUN = function(x) x[1]) == 1, ])
  expect_match(paste(format(suppressWarnings(measure_did(downs))), collapse = " "),
               "first switched on \\(estimated +from switches off, signs turned\\)")
  expect_s3_class(plot(panel), "ggplot")
  refused <- function(code, words, class = "twin_error_unsupported") expect_error(code, words, class = class)
  refused(frame_panel(data, "engine", "catch", "year", "boat"), "switching = TRUE", "twin_error_input")
  for (estimator in c("two_way", "imputation", "interaction", "event_study", "two_period")) {
    refused(measure_did(panel, estimator = estimator), "have not switched so far")
  }
  refused(decompose_did(panel), "once it has begun, stays")
  refused(baseline_rows(panel), "A baseline is for treatment that")
  refused(summarise_did(measure_did(harbour_panel()), normalise = TRUE), "treatment that switches", "twin_error_input")
  refused(frame_panel(data, first_treated = "engine", outcome = "catch", time = "year", unit = "boat", switching = TRUE),
          "needs a `treatment` column", "twin_error_input")
  refused(switching_panel(transform(data, engine = 1 * (boat > "boat 40"))), "is the same in all periods",
          "twin_error_input")
  refused(switching_panel(transform(data, engine = as.integer(year > 3))), "switch in the same period", "twin_error_input")
  refused(switching_panel(transform(data, engine = ifelse(year == 2, Inf, engine + year))), "must be finite",
          "twin_error_input")
  first <- data$boat == unique(data$boat)[which(tapply(data$engine, data$boat, function(x) x[3] != x[2]))[1]]
  expect_warning(switching_panel(data[!(first & data$year == 2), ]), "not seen just before its first switch",
                 class = "twin_warning_onset")
})

test_that("timing is drawn anew among units that began alike: all assignments by hand", {
  # 4 boats begin without an engine, one of which gets one in 2; 3 begin with one, of which one lays it up in 2
  data <- withr::with_seed(4, {
    data <- expand.grid(year = 1:3, boat = letters[1:7])
    at <- as.integer(data$boat)
    data$engine <- as.integer(at > 4)
    data$engine[at == 1 & data$year > 1] <- 1L
    data$engine[at == 5 & data$year > 1] <- 0L
    data$catch <- at + 0.4 * data$year * (at > 4) + 1.5 * data$engine + rnorm(21, sd = 0.3)
    data
  })
  panel <- frame_panel(data, "engine", "catch", "year", "boat", switching = TRUE)
  own <- suppressWarnings(measure_did(panel, inference = "randomization"))
  expect_match(own$inference, "all 12 assignments of timing to 7 boats, among those that began alike")
  # without spread of a lone switcher the statistic is the estimate: 4 x 3 ways of who moves
  change <- tapply(data$catch, list(data$boat, data$year), mean)
  effect_of <- function(up, down, year) {
    rise <- change[, as.character(year)] - change[, "1"]
    c(rise[up] - mean(rise[setdiff(1:4, up)]), -(rise[down] - mean(rise[setdiff(5:7, down)])))
  }
  ways <- expand.grid(up = 1:4, down = 5:7)
  of_up <- vapply(seq_len(12), function(k) effect_of(ways$up[k], ways$down[k], 2)[1L], 0)
  row <- tidy(own)
  at <- which(row$cohort == "2 on" & row$time == "2")
  expect_equal(row$estimate[at], of_up[1L])
  expect_equal(row$p.value[at], mean(abs(of_up) >= abs(of_up[1L]) - 1e-12))
  over <- tidy(summarise_did(own))
  expect_true(over$conf.low < 1.5 + 1 && over$conf.high > 1.5 - 1)
})
