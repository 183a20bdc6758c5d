# Eight bays; everything about a two-way regression with all its columns.
eight_bays <- function(seed = 5) {
  data <- many_harbours(16, seed)
  data <- data[-c(4, 52), ]
  rownames(data) <- NULL
  x <- model.matrix(~ open + harbour + factor(year), data)
  list(data = data, x = x, y = data$price, cluster = data$bay,
       panel = frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", cluster = "bay"))
}

few <- function(panel, ...) suppressWarnings(measure_did(panel, estimator = "two_way", ...))

# CR2 or CR3 with the whole projection, and Satterthwaite degrees of freedom.
with_projection <- function(world, power) {
  x <- world$x
  m <- solve(crossprod(x))
  h <- x %*% m %*% t(x)
  residual <- drop(world$y - h %*% world$y)
  away <- diag(nrow(x)) - h
  groups <- split(seq_len(nrow(x)), world$cluster)
  parts <- lapply(groups, function(at) {
    own <- eigen(away[at, at], symmetric = TRUE)
    good <- own$values > 1e-8
    a <- own$vectors[, good] %*% (own$values[good]^power * t(own$vectors[, good]))
    along <- drop(a %*% x[at, ] %*% m[, "open"])
    list(score = sum(along * residual[at]), p = drop(away[, at] %*% along))
  })
  p <- vapply(parts, `[[`, numeric(nrow(x)), "p")
  between <- crossprod(p)
  list(variance = sum(vapply(parts, `[[`, 0, "score")^2), df = sum(diag(between))^2 / sum(between^2))
}

test_that("CR2, its degrees of freedom, and CR3 are those of the whole projection", {
  world <- eight_bays()
  cr2 <- few(world$panel, small_sample = "CR2")
  expected <- with_projection(world, -0.5)
  expect_equal(cr2$vcov[1, 1], expected$variance, tolerance = 1e-7)
  expect_equal(cr2$df, expected$df, tolerance = 1e-6)
  cr3 <- few(world$panel, small_sample = "CR3")
  expect_equal(cr3$vcov[1, 1], with_projection(world, -1)$variance * 7 / 8, tolerance = 1e-7)
  expect_gt(cr3$vcov[1, 1], few(world$panel)$vcov[1, 1])
})

test_that("the wild bootstrap visits every sign vector of eight clusters, as refits would", {
  world <- eight_bays()
  wild <- few(world$panel, inference = "wild", multiplier = "rademacher")
  x <- world$x
  own <- colnames(x) == "open"
  m <- solve(crossprod(x))
  statistic <- function(y) {
    b <- m %*% crossprod(x, y)
    sums <- rowsum(x * drop(y - x %*% b), world$cluster)
    b[own] / sqrt((m %*% crossprod(sums) %*% m)[own, own] * 8 / 7)
  }
  restricted <- lm.fit(x[, !own], world$y)
  far <- abs(statistic(world$y))
  signs <- as.matrix(expand.grid(rep(list(c(-1, 1)), 8)))
  drawn <- apply(signs, 1, function(v) {
    statistic(restricted$fitted.values + v[match(world$cluster, unique(world$cluster))] * restricted$residuals)
  })
  expect_equal(wild$p.value, mean(abs(drawn) >= far * (1 - 1e-9)))
  expect_match(wild$inference, "all 256 sign vectors")
})

test_that("the wild interval holds the nulls that are not rejected", {
  world <- eight_bays(6)
  wild <- few(world$panel, inference = "wild", multiplier = "rademacher")
  p_at <- function(b) {
    data <- world$data
    data$price <- data$price - b * data$open
    moved <- frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", cluster = "bay")
    few(moved, inference = "wild", multiplier = "rademacher")$p.value
  }
  se <- sqrt(wild$vcov[1, 1])
  expect_gte(p_at(wild$limits[1] + 1e-4 * se), 0.05)
  expect_lt(p_at(wild$limits[1] - 1e-4 * se), 0.05)
  expect_gte(p_at(wild$limits[2] - 1e-4 * se), 0.05)
  expect_lt(p_at(wild$limits[2] + 1e-4 * se), 0.05)
  expect_equal(unlist(tidy(wild)[c("conf.low", "conf.high")], use.names = FALSE), as.vector(wild$limits))
  expect_error(tidy(wild, conf.level = 0.9), class = "twin_error_input")
})

test_that("few clusters draw Webb's six points, many signs; the same seed gives the same answer", {
  world <- eight_bays()
  webb <- few(world$panel, inference = "wild", draws = 999, seed = 3)
  expect_match(webb$inference, "Webb")
  expect_identical(webb$p.value, few(world$panel, inference = "wild", draws = 999, seed = 3)$p.value)
  expect_false(identical(webb$limits, few(world$panel, inference = "wild", draws = 999, seed = 4)$limits))
  many <- few(harbour_panel(), inference = "wild", draws = 999)
  expect_match(many$inference, "999 draws \\(signs")
  expect_setequal(unique(round(as.vector(core_drawn_signs(400, "webb", 1)(diag(5), matrix(0, 0, 5)))^2, 6)), c(0.5, 1, 1.5))
  signs <- core_drawn_signs(500, "rademacher", 1)(diag(70), matrix(1, 1, 70))
  expect_setequal(as.vector(signs[-71, ]), c(-1, 1))
  expect_identical(unique(signs[71, ]), 70)
  expect_lt(max(abs(rowMeans(signs[-71, ]))), 4.5 / sqrt(500))
  expect_lt(max(abs(cor(t(signs[-71, ]))[upper.tri(diag(70))])), 5 / sqrt(500))
  left <- matrix(rnorm(3 * 70), 3)
  expect_equal(core_drawn_signs(500, "rademacher", 1)(left, matrix(1, 1, 70))[1:3, ], left %*% signs[-71, ])
  webb_v <- core_drawn_signs(50, "webb", 1)(diag(70), matrix(0, 0, 70))
  expect_equal(core_drawn_signs(50, "webb", 1)(left, left), rbind(left %*% webb_v, left %*% webb_v^2))
  # far from few clusters it agrees with t
  expect_lt(abs(diff(as.vector(many$limits)) / diff(unlist(tidy(few(harbour_panel()))[c("conf.low", "conf.high")])) - 1), 0.15)
})

test_that("what needs whole units in clusters, or few clusters, says so", {
  expect_error(few(harbour_panel(), small_sample = "CR2", absorb = "coast:year"), class = "twin_error_unsupported")
  expect_error(few(harbour_panel(), draws = 500), class = "twin_error_input")
  expect_warning(measure_did(eight_bays()$panel), class = "twin_warning_few_clusters")
})

test_that("randomization p-values count the assignments that do as well", {
  data <- many_harbours(12, seed = 8)
  data$price[data$open == 1] <- data$price[data$open == 1] - 1
  panel <- harbour_panel(data)
  two_way <- few(panel, inference = "randomization", draws = 99, seed = 2)
  first <- data[!duplicated(data$harbour), ]
  statistic <- function(d, y) {
    found <- lm(y ~ d + harbour + factor(year), data)
    x <- model.matrix(found)
    m <- solve(crossprod(x))
    v <- m %*% crossprod(rowsum(x * resid(found), data$harbour)) %*% m
    coef(found)[["d"]] / sqrt(v["d", "d"])
  }
  drawn <- lapply(1:99, function(k) {
    assigned <- carefultwin:::with_own_seed(carefultwin:::core_sub_seed(2, "timing", k), sample(panel$cohort))
    onset <- c(2003, 2004, 2006, Inf)[assigned]
    as.integer(data$year >= onset[as.integer(data$harbour)])
  })
  p_at <- function(b) {
    y <- data$price - b * data$open
    far <- vapply(drawn, function(open) abs(statistic(open, y)), 0) >= abs(statistic(data$open, y)) * (1 - 1e-9)
    (1 + sum(far)) / 100
  }
  expect_equal(two_way$p.value[[1]], p_at(0))
  expect_gt(p_at(two_way$limits[1] + 1e-3), 0.05)
  expect_lte(p_at(two_way$limits[1] - 1e-3), 0.05)
  expect_gt(p_at(two_way$limits[2] - 1e-3), 0.05)
  expect_lte(p_at(two_way$limits[2] + 1e-3), 0.05)
  expect_identical(unlist(tidy(two_way)[c("conf.low", "conf.high")], use.names = FALSE), as.vector(two_way$limits))
  # few assignments are all visited: one treated of eight, once each
  small <- data[data$harbour %in% c("h01", levels(data$harbour)[c(7, 8, 4:6, 9:10)]) & data$year <= 2003, ]
  small$opened <- ifelse(small$harbour == "h01", 2003, NA)
  lone <- suppressWarnings(measure_did(frame_panel(small, outcome = "price", time = "year", unit = "harbour",
                                                   first_treated = "opened"), inference = "randomization"))
  wide <- reshape(small[c("harbour", "year", "price")], idvar = "harbour", timevar = "year", direction = "wide")
  change <- wide$price.2003 - wide$price.2002
  gap <- vapply(1:8, function(k) change[k] - mean(change[-k]), 0)
  expect_equal(summarise_did(lone)$p.value, mean(abs(gap) >= abs(gap[wide$harbour == "h01"]) - 1e-9))
  expect_match(lone$inference, "all 8 assignments of timing to 8 harbours")
  cells <- suppressWarnings(measure_did(panel, inference = "randomization", draws = 99))
  one <- summarise_did(cells)
  expect_true(one$p.value >= 0.01 && one$p.value <= 1)
  row <- tidy(one)
  expect_identical(row$p.value <= 0.05, row$conf.low > 0 || row$conf.high < 0)
  expect_length(summarise_did(cells, "event")$p.value, 9)
  expect_error(suppressWarnings(measure_did(frame_panel(many_landings(), outcome = "value", time = "year", first_treated = "opened"),
                                            inference = "randomization")), "group", class = "twin_error_input")
})
