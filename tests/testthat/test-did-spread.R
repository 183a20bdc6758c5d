# Errors clustered two ways, or by distance, against double loops.

placed_harbours <- function(n = 60, gaps = FALSE) {
  data <- many_harbours(n, gaps = gaps)
  withr::with_seed(11, {
    at <- as.integer(data$harbour)
    data$east <- runif(n, 0, 100)[at]
    data$north <- runif(n, 0, 60)[at]
    data$owner <- sample(24, n, TRUE)[at]
    data
  })
}

unit_contributions <- function(effect) {
  carefultwin:::core_contributions(effect$source, effect$combine, effect$shift)
}

test_that("errors by distance are a double loop over units", {
  data <- placed_harbours(gaps = TRUE)
  panel <- suppressWarnings(harbour_panel(data, covariates = ~ depth, weight = "s"))
  for (setting in list(list(), list(adjustment = "none"), list(estimator = "imputation"), list(estimator = "two_way"),
                       list(estimator = "event_study"))) {
    own <- suppressWarnings(do.call(measure_did, c(list(panel, near = c("east", "north"), reach = 15), setting)))
    if (own$over == "cells") own <- summarise_did(own, bands = FALSE)
    sums <- unit_contributions(own)
    place <- data[!duplicated(data$harbour), c("east", "north")]
    blocks <- nrow(unique(floor(cbind(place$east - min(place$east), place$north - min(place$north)) / 15)))
    hand <- matrix(0, ncol(sums), ncol(sums))
    for (i in seq_len(nrow(sums))) {
      for (j in seq_len(nrow(sums))) {
        gap <- abs(unlist(place[i, ]) - unlist(place[j, ]))
        if (all(gap < 15)) hand <- hand + prod(1 - gap / 15) * tcrossprod(sums[i, ], sums[j, ])
      }
    }
    known <- !is.na(diag(own$vcov))
    expect_equal(unname(own$vcov)[known, known], hand[known, known] * blocks / (blocks - 1))
    expect_identical(unique(unname(own$df)[known]), as.double(blocks - 1))
  }
})

test_that("within no reach units stand alone, and two clusterings count what both share once", {
  data <- placed_harbours()
  near <- suppressWarnings(measure_did(harbour_panel(data), estimator = "two_way", near = c("east", "north"), reach = 1e-6))
  alone <- measure_did(harbour_panel(data), estimator = "two_way")
  expect_equal(vcov(near), vcov(alone))
  panel <- harbour_panel(data, cluster = "bay")
  crossed <- suppressWarnings(summarise_did(measure_did(panel, crossed = "owner"), bands = FALSE))
  sums <- unit_contributions(crossed)
  first <- data[!duplicated(data$harbour), ]
  by <- function(code) {
    total <- rowsum(sums, code)
    sum(total^2) * nrow(total) / (nrow(total) - 1)
  }
  expect_equal(crossed$vcov[1L, 1L], by(first$bay) + by(first$owner) - by(paste(first$bay, first$owner)))
  expect_identical(unname(crossed$df), length(unique(data$owner)) - 1)
  expect_match(crossed$inference, sprintf("clustered by bay (30) and by owner (%d) at once", length(unique(data$owner))), fixed = TRUE)
  itself <- suppressWarnings(measure_did(harbour_panel(data, cluster = "bay"), estimator = "two_way", crossed = "bay"))
  expect_equal(vcov(itself), vcov(measure_did(panel, estimator = "two_way")))
  path <- suppressWarnings(summarise_did(measure_did(panel, crossed = "owner"), "event"))
  expect_true(all(eigen(path$vcov[!is.na(diag(path$vcov)), !is.na(diag(path$vcov))])$values > -1e-12))
  expect_s3_class(suppressWarnings(probe_trends(measure_did(panel, crossed = "owner", base = "fixed"), m = c(0, 1), interval = "direct")),
                  "twin_probe")
})

test_that("a second column may cut units: regressions sum rows by period", {
  data <- placed_harbours(gaps = TRUE)
  by <- function(score, code) sum(tapply(score, code, sum)^2) * length(unique(code)) / (length(unique(code)) - 1)
  both_ways <- function(score, first, second) by(score, first) + by(score, second) - by(score, paste(first, second))
  own <- suppressWarnings(measure_did(harbour_panel(data, cluster = "bay"), estimator = "two_way", crossed = "year"))
  seen <- !is.na(data$price)
  fit <- lm(price ~ open + factor(harbour) + factor(year), data[seen, ])
  free <- resid(lm(open ~ factor(harbour) + factor(year), data[seen, ]))
  score <- free * resid(fit) / sum(free^2)
  expect_equal(own$vcov[1L, 1L], both_ways(score, data$bay[seen], data$year[seen]))
  expect_identical(unname(own$df), length(unique(data$year)) - 1)
  expect_match(own$inference, "clustered by bay (30) and by year (6) at once", fixed = TRUE)
  # pieces of units add up to what units have, and one code for all periods is the unit's own
  data$shift <- (as.integer(factor(data$harbour)) + data$year) %% 5
  panel <- suppressWarnings(harbour_panel(data, covariates = ~ depth, weight = "s"))
  for (setting in list(list("two_way"), list("two_way", trends = "unit"), list("event_study"), list("interaction"), list("imputation"),
                       list("imputation", trends = "unit"), list("two_way", absorb = "owner"))) {
    plain <- suppressWarnings(do.call(measure_did, c(list(panel, estimator = setting[[1L]]), setting[-1L])))
    cut <- suppressWarnings(do.call(measure_did, c(list(panel, estimator = setting[[1L]], crossed = "shift"), setting[-1L])))
    if (plain$over == "cells") {
      plain <- summarise_did(plain, bands = FALSE)
      cut <- summarise_did(cut, bands = FALSE)
    }
    expect_equal(coef(cut), coef(plain))
    whole <- unit_contributions(plain)
    pieces <- unit_contributions(cut)
    code <- unique(data.frame(harbour = data$harbour, shift = data$shift))
    sums <- rowsum(pieces, match(code$harbour, unique(data$harbour)))
    expect_equal(unname(sums), unname(whole), tolerance = 1e-8, label = setting[[1L]])
    squares <- function(code) crossprod(rowsum(pieces, code)) * length(unique(code)) / (length(unique(code)) - 1)
    hand <- squares(code$harbour) + squares(code$shift) - squares(paste(code$harbour, code$shift))
    parts <- eigen(hand, symmetric = TRUE)
    hand <- parts$vectors %*% diag(pmax(parts$values, 0), nrow(hand)) %*% t(parts$vectors)
    known <- !is.na(diag(cut$vcov))
    expect_equal(unname(cut$vcov)[known, known], hand[known, known], label = setting[[1L]])
  }
  rows <- many_landings()
  cross <- suppressWarnings(measure_did(landing_panel(rows), estimator = "two_way", crossed = "year"))
  free <- resid(lm(open ~ factor(harbour) + factor(year), rows))
  score <- free * resid(lm(value ~ open + factor(harbour) + factor(year), rows)) / sum(free^2)
  expect_equal(cross$vcov[1L, 1L], both_ways(score, rows$harbour, rows$year), tolerance = 1e-6)
})

test_that("shocks that neighbours share are in errors by distance, and in no others", {
  # each square of 20 shares a shock in every year; stores come by square
  draws <- vapply(1:60, function(seed) {
    data <- placed_harbours()
    square <- paste(data$east %/% 20, data$north %/% 20)
    data <- withr::with_seed(seed, {
      opened <- sample(c(2004, NA), length(unique(square)), TRUE)[match(square, unique(square))]
      data$open <- as.integer(!is.na(opened) & data$year >= opened)
      shock <- matrix(rnorm(6 * length(unique(square)), sd = 2), 6)
      data$price <- shock[cbind(data$year - 2000, match(square, unique(square)))] + rnorm(nrow(data), sd = 0.2)
      data
    })
    effect <- function(...) suppressWarnings(measure_did(harbour_panel(data), estimator = "two_way", ...))
    c(effect()$estimate, sqrt(vcov(effect())), sqrt(vcov(effect(near = c("east", "north"), reach = 20))))
  }, numeric(3))
  spread <- sd(draws[1, ])
  expect_lt(mean(draws[2, ]) / spread, 0.6)
  expect_gt(mean(draws[3, ]) / spread, 1.2 * mean(draws[2, ]) / spread)
})

test_that("what errors beyond clusters can't do is refused, and few blocks are told", {
  data <- placed_harbours()
  panel <- harbour_panel(data)
  near <- c("east", "north")
  expect_error(measure_did(panel, near = near), "go together", class = "twin_error_input")
  expect_error(measure_did(panel, near = "east", reach = 3), "two columns", class = "twin_error_input")
  expect_error(measure_did(panel, near = near, reach = 0), "reach", class = "twin_error_input")
  expect_error(measure_did(panel, near = near, reach = 3, crossed = "owner"), "one of them", class = "twin_error_input")
  expect_error(measure_did(panel, near = c("east", "tide"), reach = 3), "must be the same", class = "twin_error_input")
  expect_error(measure_did(panel, crossed = "year"), "sums over whole units, and \"year\" changes.*It does in 60",
               class = "twin_error_unsupported")
  expect_error(measure_did(transform(data, one = 1) |> harbour_panel(), crossed = "one"), "at least 2", class = "twin_error_input")
  for (refused in list(
    function() measure_did(panel, near = near, reach = 3, inference = "bootstrap"),
    function() measure_did(panel, crossed = "owner", estimator = "synthetic"),
    function() measure_did(panel, estimator = "two_way", crossed = "owner", small_sample = "CR2"),
    function() measure_did(landing_panel(), near = c("depth", "depth"), reach = 1)
  )) expect_error(refused(), class = "twin_error_unsupported")
  expect_warning(wide <- measure_did(panel, near = near, reach = 60), "Only 2 blocks", class = "twin_warning_few_clusters")
  expect_match(wide$inference, "units within 60 of each other by east and north move together")
  data$east[4] <- NA
  expect_error(measure_did(harbour_panel(data), near = near, reach = 3), "finite", class = "twin_error_input")
})
