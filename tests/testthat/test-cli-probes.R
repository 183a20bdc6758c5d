# The plan of plan_folder() with its probes replaced.
with_probes <- function(probes, more = character()) {
  function(lines) {
    from <- match("probes:", lines)
    to <- match("report:", lines) - 1L
    c(lines[seq_len(from - 1L)], more, "probes:", probes, lines[-seq_len(to)])
  }
}

test_that("every probe and power stands in a plan, with all of its options", {
  folder <- plan_folder(with_probes(c(
    "  all: {probe: effect, effect: pairs, draws: 20, level: 0.9, seed: 3}",
    "  pairs: {probe: pairs, effect: pairs, gamma: [1, 2], side: greater, exact: false, level: 0.9, test: sign}",
    "  bare pairs: {probe: pairs, estimate: [3, 1, 4, -1, 5]}",
    "  odds: {probe: weights, effect: share, lambda: [1, 1.5], draws: 20, level: 0.9, yardstick: false, seed: 2}",
    "  omitted: {probe: omitted, effect: pairs, covariates: {size: [boat, past]}, times: [1, 4], r2_outcome: [1, 0.3],",
    "            level: 0.9, towards: false}",
    "  printed: {probe: omitted, estimate: 2.1, std_error: 0.5, df: 60}",
    "  ratio: {probe: ratio, estimate: 1.8, low: 1.2, high: 2.7, scale: odds_ratio, rare: true}",
    "  moves: {probe: stability, effect: pairs, r_max: [0.9, 0.95], delta: 0.5, beta: 1}",
    "  moved: {probe: stability, estimate: {short: 2, short_r2: 0.1, long: 1.5, long_r2: 0.4, var_outcome: 4,",
    "          var_treatment: 1, var_left: 0.8}}",
    "  nothing: {probe: placebo, effect: pairs, outcomes: chance, groups: {west: \"coast == 'west'\"}, level: 0.9}",
    "  others: {probe: choices, effect: pairs, caliper: [0.1, 0.2], ratio: [1, 2], trimming: [none, quantile],",
    "           link: probit, estimator: difference, leave_out: none, limit: strict,",
    "           ratio_range: [0.5, 2], level: 0.9}"
  ), c("power:", "  before: {design: pairs, power: [0.5, 0.8], level: 0.9, sd: 5, intraclass: 0.1, pairing: 0.2}",
       "  bare: {outcome: income}")))
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L, label = paste(result$err, collapse = " "))
  out <- file.path(folder, "results")
  rows <- function(name) data.table::fread(file.path(out, "tables", paste0("probe-", name, ".csv")), data.table = FALSE)
  read <- read_units(file.path(folder, "data.csv"))
  study <- frame_study(read, "joined", c("income", "direct"), ~ boat + past + port, id = "id", cluster = "harbour")
  pairs <- measure_effect(pair_units(score_units(study), caliper = 0.2))
  expect_equal(rows("pairs")[1:3], tidy(probe_pairs(pairs, c(1, 2), "greater", "sign", FALSE, "drop", 0.9))[1:3],
               ignore_attr = TRUE)
  expect_equal(rows("bare-pairs")$p_high, tidy(probe_pairs(c(3, 1, 4, -1, 5)))$p_high)
  share <- measure_effect(weigh_units(score_units(study)), "direct", estimator = "augmented")
  expect_equal(rows("odds"), tidy(probe_weights(share, c(1, 1.5), FALSE, 0.9, 20, 2)))
  omitted <- probe_omitted(pairs, list(size = c("boat", "past")), c(1, 4), c(1, 0.3), FALSE, level = 0.9)
  expect_equal(rows("omitted"), tidy(omitted))
  expect_equal(rows("ratio"), tidy(probe_ratio(1.8, 1.2, 2.7, "odds_ratio", TRUE)))
  expect_equal(rows("moves")$estimate, tidy(probe_stability(pairs, c(0.9, 0.95), 0.5, 1))$estimate)
  placebo <- probe_placebo(pairs, "chance", list(west = ~ coast == "west"), level = 0.9)
  expect_equal(rows("nothing")[1:8], tidy(placebo)[1:8])
  expect_identical(nrow(rows("others")), 1L + 8L)
  expect_equal(rows("all")[1:7], tidy(probe_effect(pairs, 0.9, 20, 3))[1:7], ignore_attr = TRUE)
  power <- data.table::fread(file.path(out, "tables", "power-before.csv"), data.table = FALSE)
  expect_equal(power, tidy(assess_power(design_of(pairs), c(0.5, 0.8), 0.9, sd = 5, intraclass = 0.1, pairing = 0.2)))
  pictures <- list.files(file.path(out, "figures"), pattern = "^(probe|power)-")
  expect_length(pictures, 13L)
  expect_true("hidden-bias.html" %in% list.files(out))
  page <- paste(readLines(file.path(out, "hidden-bias.html")), collapse = "\n")
  expect_match(page, "<section id=\"bias\"", fixed = TRUE)
  expect_match(page, "<section id=\"question\"", fixed = TRUE)
  expect_false(grepl("<section id=\"balance\"", page, fixed = TRUE))
  expect_match(paste(readLines(file.path(out, "report.html")), collapse = "\n"), "<section id=\"power\"", fixed = TRUE)
  expect_identical(grep("^.{81}", grep(folder, result$out, fixed = TRUE, invert = TRUE, value = TRUE), value = TRUE),
                   character())
  expect_true("probe" %in% data.table::fread(file.path(out, "logbook.csv"))$verb)
})

test_that("mistakes in probes are named with their line", {
  stopped <- function(probe, pattern, more = character(), status = 2L) {
    folder <- plan_folder(with_probes(probe, more))
    result <- twin("run", file.path(folder, "plan.yml"))
    expect_stopped(result, status, pattern)
    expect_false(dir.exists(file.path(folder, "results")))
  }
  stopped("  a: {probe: weihgts, effect: pairs}", "Did you mean \"weights\"")
  stopped("  a: {probe: trends, effect: pairs}", "trends.*does not have")
  stopped("  a: {probe: weights, effect: share, gamma: 2}", "unknown key \"gamma\"")
  stopped("  a: {probe: weights, draws: 10}", "must name the `effect`")
  stopped("  a: {effect: pairs}", "must name its kind")
  stopped("  a: {probe: placebo, effect: pairs, groups: {west: \"system('ls')\"}}", "system")
  stopped("  a: {probe: weights, effect: pairs}", "In plan.yml, line", status = 1L)
  stopped("  a: {probe: pairs, effect: pairs}", "unknown key \"pwoer\"",
          c("power:", "  a: {design: pairs, pwoer: 0.8}"))
})

test_that("the page on hidden bias can be written alone, and needs probes", {
  study <- study_of_many()
  effect <- measure_effect(weigh_units(score_units(study)))
  file <- withr::local_tempfile(fileext = ".html")
  probes <- list(everything = probe_effect(effect, draws = 0), strength = probe_ratio(effect))
  write_report(file, study, effects = list(weights = effect), probes = probes[2:1], only = "bias",
               powers = list(before = assess_power(study, sd = 3)))
  page <- paste(readLines(file), collapse = "\n")
  # all on one scale first and open, the others folded with what they say
  expect_match(page, "<h3>everything</h3>.*<summary>strength: turns at an E-value of [0-9.]+</summary>")
  expect_match(page, "An estimate|Each line is one way", perl = TRUE)
  expect_error(write_report(file, study, only = "bias"), "no `probes`", class = "twin_error_input")
  for (probe in c(probes, list(probe_omitted(4, df = 20), probe_stability(effect, r_max = 0.99)))) {
    table <- withr::local_tempfile(fileext = ".md")
    export_table(probe, table)
    expect_match(paste(readLines(table), collapse = "\n"), "|", fixed = TRUE)
  }
  export_table(assess_power(study, sd = 3), sub("html", "csv", file))
  expect_identical(nrow(data.table::fread(sub("html", "csv", file))), 2L)
})
