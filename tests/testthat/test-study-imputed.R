# Imputed data: framed alike, run within each set, pooled.

# A data frame with holes in `past`, and completed copies of it.
holed <- function(n = 300, seed = 1) {
  data <- many_crews(n, seed)
  data$id <- sprintf("crew %03d", seq_len(n))
  withr::with_seed(seed, data$past[sample.int(n, n / 5)] <- NA)
  data
}

completed <- function(data = holed(), sets = 4, seed = 2) {
  gap <- is.na(data$past)
  lapply(seq_len(sets), function(k) {
    data$past[gap] <- withr::with_seed(seed + k, sample(data$past[!gap], sum(gap), TRUE))
    data
  })
}

framed <- function(data, ...) frame_study(data, "joined", c("income", "direct"), c("boat", "past", "port"), ...)

test_that("pooling is Rubin's mean and variance with the degrees of freedom of Barnard and Rubin", {
  q <- c(2, 2.5, 1.5, 3)
  u <- c(0.4, 0.5, 0.3, 0.4)
  found <- core_pool(cbind(q), lapply(u, matrix), 29)
  b <- sum((q - mean(q))^2) / 3
  total <- mean(u) + 1.25 * b
  expect_equal(found$estimate, 2.25, ignore_attr = TRUE)
  expect_equal(found$vcov[[1]], total)
  lambda <- 1.25 * b / total
  old <- 3 / lambda^2
  observed <- 30 / 32 * 29 * (1 - lambda)
  expect_equal(unname(found$df), old * observed / (old + observed))
  growth <- 1.25 * b / mean(u)
  expect_equal(unname(found$missing), (growth + 2 / (found$df + 3)) / (growth + 1), ignore_attr = TRUE)
  # without a limit on the complete data's degrees of freedom: Rubin's own
  expect_equal(unname(core_pool(cbind(q), lapply(u, matrix), Inf)$df), old)
  one <- core_pool(cbind(2), list(matrix(0.5)), 12)
  expect_identical(unname(c(one$vcov, one$df)), c(0.5, 12))
  expect_identical(one$missing, NA_real_)
  alike <- core_pool(cbind(c(2, 2, 2)), list(matrix(0.5))[c(1, 1, 1)], 12)
  expect_identical(unname(c(alike$vcov, alike$df, alike$missing)), c(0.5, 12, 0))
})

test_that("one data set, or the same several times, gives what none imputed gives", {
  data <- completed()[[1]]
  plain <- measure_effect(weigh_units(score_units(framed(data))), c("income", "direct"), estimator = "augmented")
  expect_warning(single <- framed(list(data)), class = "twin_warning_imputed")
  for (study in list(single, framed(list(data, data, data)))) {
    pooled <- measure_effect(weigh_units(score_units(study)), c("income", "direct"), estimator = "augmented")
    expect_equal(tidy(pooled), tidy(plain))
    expect_equal(vcov(pooled), vcov(plain))
    expect_equal(tidy(assess_balance(weigh_units(score_units(study))))[names(tidy(assess_balance(framed(data))))],
                 tidy(assess_balance(weigh_units(score_units(framed(data))))))
  }
  expect_match(paste(format(measure_effect(single)), collapse = " "), "One imputed data set: the error takes")
})

test_that("pooled effects are those of each set put together by hand, ratios on the log scale", {
  sets <- completed()
  study <- framed(sets, cluster = "harbour")
  effect <- measure_effect(weigh_units(score_units(study)), outcome = "direct")
  own <- lapply(sets, function(data) {
    tidy(measure_effect(weigh_units(score_units(framed(data, cluster = "harbour"))), outcome = "direct"))
  })
  of <- function(term, column) vapply(own, function(table) table[[column]][table$term == term], 0)
  row <- function(term) tidy(effect)[tidy(effect)$term == term, ]
  for (term in c("mean_treated", "difference")) {
    expect_equal(row(term)$estimate, mean(of(term, "estimate")))
    expect_equal(row(term)$std.error, sqrt(mean(of(term, "std.error")^2) + 1.25 * var(of(term, "estimate"))))
  }
  logs <- log(of("ratio", "estimate"))
  se <- of("ratio", "std.error") / of("ratio", "estimate")
  total <- sqrt(mean(se^2) + 1.25 * var(logs))
  expect_equal(row("ratio")$estimate, exp(mean(logs)))
  pooling <- tidy(effect, part = "pooling")
  df <- pooling$df[pooling$term == "ratio"]
  expect_equal(c(row("ratio")$conf.low, row("ratio")$conf.high), exp(mean(logs) + c(-1, 1) * qt(0.975, df) * total))
  expect_lt(df, length(unique(sets[[1]]$harbour)) - 1)
  expect_equal(pooling$least[pooling$term == "difference"], min(of("difference", "estimate")))
  expect_equal(glance(effect)$missing_information, pooling$missing_information[pooling$term == "difference"])
  expect_equal(unname(confint(effect)["difference", ]), unlist(row("difference")[c("conf.low", "conf.high")]),
               ignore_attr = TRUE)
})

test_that("effects side by side have the pooled joint covariance", {
  study <- framed(completed())
  scored <- score_units(study)
  weights <- measure_effect(weigh_units(scored))
  pairs <- measure_effect(pair_units(scored))
  expect_equal(tidy(compare_effects(a = weights, b = weights), part = "agreement")$std.error, 0)
  both <- compare_effects(weights = weights, pairs = pairs)
  own <- lapply(1:4, function(k) {
    vcov(compare_effects(weights = measure_effect(weigh_units(scored[[k]])), pairs = measure_effect(pair_units(scored[[k]]))))
  })
  estimates <- cbind(vapply(sets_of(weights), function(x) coef(x)[["difference"]], 0),
                     vapply(sets_of(pairs), function(x) coef(x)[["difference"]], 0))
  expect_equal(vcov(both), Reduce(`+`, own) / 4 + 1.25 * cov(estimates), ignore_attr = TRUE)
  expect_match(paste(format(both), collapse = " "), "Pooled over 4 imputed data sets")
  plain <- measure_effect(framed(completed()[[1]]))
  expect_error(compare_effects(weights, plain), "same data sets", class = "twin_error_input")
})

test_that("several outcomes, groups and estimands are pooled one by one, with bands", {
  study <- framed(completed())
  design <- weigh_units(score_units(study))
  several <- measure_effect(design, c("income", "direct"), bands = TRUE, adjust = "holm")
  expect_equal(tidy(several)[tidy(several)$outcome == "income", 4:10],
               tidy(measure_effect(design))[, 4:10], ignore_attr = TRUE)
  rows <- tidy(several)[tidy(several)$term == "difference", ]
  expect_true(all(rows$band.low < rows$conf.low & rows$band.high > rows$conf.high))
  groups <- measure_effect(design, by = "port")
  expect_s3_class(groups[[1]], "twin_pooled")
  expect_identical(nrow(tidy(groups, part = "groups")), length(groups) - 1L)
  expect_identical(tidy(measure_effect(design, estimand = c("ATT", "ATE")))$estimand[c(1, 5)], c("ATT", "ATE"))
  drawn <- measure_effect(design, inference = "bootstrap", draws = 30)
  expect_null(drawn$draws)
  expect_match(drawn$inference, "bootstrap.*pooled over 4 imputed data sets")
})

test_that("balance shows the mean and the worst, and passes where all data sets do", {
  sets <- completed()
  design <- weigh_units(score_units(framed(sets)), "stable", tolerance = 0.05)
  balance <- assess_balance(design, limit = 0.049)
  own <- lapply(1:4, function(k) tidy(assess_balance(design[[k]], limit = 0.049)))
  rows <- tidy(balance)
  smd <- vapply(own, `[[`, numeric(nrow(rows)), "smd")
  expect_equal(rows$smd, rowMeans(smd))
  expect_equal(rows$smd_worst, smd[cbind(seq_len(nrow(rows)), max.col(abs(smd), "first"))])
  expect_identical(rows$pass, Reduce(`&`, lapply(own, `[[`, "pass")))
  expect_equal(glance(balance)$worst_smd, max(abs(smd[rows$sample == "after", ])))
  expect_match(paste(format(balance), collapse = " "), "worst: the largest SMD in any of them")
  both <- assess_balance(list(weights = weigh_units(score_units(framed(sets))), stable = design))
  expect_identical(glance(both)$sample, c("weights", "stable"))
  expect_error(assess_balance(design, tests = TRUE), class = "twin_error_unsupported")
  expect_error(assess_balance(list(a = design, b = design[[1]])), "one study", class = "twin_error_input")
  draw_quietly(plot(balance))
  groups <- describe_groups(framed(sets))
  expect_equal(tidy(groups)$mean_treated, rowMeans(vapply(sets, function(data) tidy(describe_groups(framed(data)))$mean_treated,
                                                          numeric(nrow(tidy(groups))))))
})

test_that("what has no pooled form is given for each data set, with its range", {
  design <- pair_units(score_units(framed(completed(), id = "id")))
  effect <- measure_effect(design)
  probe <- probe_pairs(effect)
  turns <- glance(probe)
  expect_identical(turns$.imputation, as.character(1:4))
  expect_equal(turns$gamma_change[2], glance(probe_pairs(measure_effect(design[[2]])))$gamma_change)
  text <- paste(format(probe), collapse = " ")
  expect_match(text, "In each of 4 imputed data sets")
  expect_match(text, paste0("gamma change +", number_text(min(turns$gamma_change))))
  expect_match(probe_verdict(probe), "This is the first of 4 imputed data sets; over all of them: .*gamma change")
  expect_identical(unique(pairs_of(design)$.imputation), as.character(1:4))
  expect_identical(dim(weights(design)), c(300L, 4L))
  expect_identical(nrow(design_data(design)), 1200L)
  ratio <- probe_ratio(effect)
  expect_s3_class(ratio, "twin_probe_ratio")
  expect_identical(tidy(ratio, part = "covariates")$covariate[1] %in% c("boat", "past", "port"), TRUE)
  expect_s3_class(assess_power(weigh_units(score_units(framed(completed())))), "twin_by_imputation")
  expect_error(probe[[9]], "no data set", class = "twin_error_input")
  expect_error(measure_model(lm(income ~ joined, completed()[[1]]), design), class = "twin_error_unsupported")
})

test_that("long data with the rows before imputation, ids in another order, and arms", {
  data <- holed()
  sets <- completed(data)
  long <- do.call(rbind, Map(function(set, k) cbind(round = k, set), c(list(data), sets), 0:4))
  expect_warning(study <- framed(long, imputation = "round"), "before imputation", class = "twin_warning_dropped")
  expect_identical(names(sets_of(study)), as.character(1:4))
  plain <- framed(sets, id = "id")
  shuffled <- sets
  shuffled[[3]] <- shuffled[[3]][300:1, ]
  expect_equal(tidy(measure_effect(weigh_units(score_units(framed(shuffled, id = "id"))))),
               tidy(measure_effect(weigh_units(score_units(plain)))))
  expect_match(paste(format(plain), collapse = " "), "4 completed data sets, which differ in past \\(60 rows\\)")
  gear <- lapply(sets, function(set) cbind(set, gear = rep(c("net", "line", "pot"), 100)))
  arms <- frame_arms(gear, "gear", "income", c("boat", "past"), reference = "net")
  effects <- measure_effect(weigh_units(score_units(arms)))
  expect_identical(names(contrasts_of(arms)), c("line", "pot"))
  expect_s3_class(effects[[1]], "twin_pooled")
})

test_that("a hazard ratio is pooled by its log, and its curves are those of the first data set", {
  sets <- lapply(1:3, function(k) {
    data <- more_outcomes(200, seed = 4)
    data$past[1:30] <- data$past[1:30] + k / 10
    data
  })
  study <- frame_study(sets, "joined", c("months", "left"), c("boat", "past"))
  design <- weigh_units(score_units(study))
  lasting <- measure_hazard(design, "months", "left")
  own <- vapply(1:3, function(k) coef(measure_hazard(design[[k]], "months", "left"))[["hazard_ratio"]], 0)
  expect_equal(coef(lasting)[["hazard_ratio"]], exp(mean(log(own))))
  expect_identical(tidy(lasting, part = "curves"), tidy(measure_hazard(design[[1]], "months", "left"), part = "curves"))
  expect_match(paste(format(lasting), collapse = " "), "hazard ratios from")
})

test_that("data sets that do not fit together are refused, with the place", {
  sets <- completed()
  refused <- function(data, pattern, ...) expect_error(framed(data, ...), pattern, class = "twin_error_input")
  refused(list(), "empty list")
  refused(list(sets[[1]], "x"), "Entry 2 of the list")
  refused(c(sets[1:2], list(sets[[3]][-1, ])), "data set 3 has 299")
  refused(sets, "must be a data frame", imputation = "round")
  other <- sets
  other[[2]]$joined[5] <- 1 - other[[2]]$joined[5]
  e <- refused(other, "treatment .* must be the same")
  expect_identical(e$rows, 5L)
  other <- sets
  other[[4]]$harbour <- rev(other[[4]]$harbour)
  refused(other, "cluster", cluster = "harbour")
  other <- sets
  other[[2]]$id[1] <- "nobody"
  refused(other, "same units", id = "id")
  holes <- sets
  holes[[3]]$past[7] <- NA
  e <- refused(holes, "keep the same rows", missing = "drop")
  expect_identical(e$rows, 7L)
  e <- refused(c(sets[1:2], list(transform(sets[[3]], past = 1))), "In data set 3 \\(of 3\\)")
  gone <- do.call(rbind, Map(cbind, round = c(1, NA), sets[1:2]))
  refused(gone, "must not be missing", imputation = "round")
  expect_warning(score_units(frame_study(lapply(sets, transform, twice = 2 * boat), "joined", "income", c("boat", "twice"))),
                 "In each of 4 imputed data sets", class = "twin_warning_aliased")
})

test_that("a plan with long imputed data runs to its report, and says what is pooled", {
  folder <- withr::local_tempdir()
  long <- do.call(rbind, Map(function(set, k) cbind(round = k, set), completed(), 1:4))
  data.table::fwrite(long, file.path(folder, "long.csv"))
  writeLines(c(
    "study: {data: long.csv, treatment: joined, outcome: income, covariates: [boat, past, port], imputation: round}",
    "designs: {weights: [score, weigh], pairs: [score, pair]}", "power: {p: {design: weights}}",
    "effects: {weighted: {design: weights}, paired: {design: pairs}}",
    "probes: {hidden: {probe: pairs, effect: paired}}"
  ), file.path(folder, "plan.yml"))
  result <- twin("run", file.path(folder, "plan.yml"), "--out", file.path(folder, "out"))
  expect_identical(result$status, 0L)
  expect_match(result$out, "imputed: 4 completed data sets", all = FALSE)
  html <- paste(readLines(file.path(folder, "out", "report.html"), warn = FALSE), collapse = "\n")
  expect_match(html, "hidden over 4 imputed data sets")
  expect_match(html, "pooled by Rubin")
  weights <- data.table::fread(file.path(folder, "out", "weights.csv"))
  expect_identical(nrow(weights), 1200L)
  pairs <- data.table::fread(file.path(folder, "out", "tables", "pairs-pairs.csv"))
  expect_setequal(pairs$.imputation, 1:4)
  for (step in c("question", "score", "designs", "power", "effects", "bias")) {
    expect_length(answer_step(read_plan(file.path(folder, "plan.yml")), step, new.env())$failed, 0)
  }
})
