first_of <- function(effects, headline = NULL, probes = list(), designs = list(), study = study_of(effects[[1]])) {
  balances <- lapply(designs, assess_balance)
  parts <- report_parts(study, designs, effects, probes, NULL, balances, describe_groups(study))
  parts <- with_headline(parts, headline)
  withr::defer(drop_figures(parts$figures), parent.frame())
  report_first(parts)
}

verdicts_of <- function(first) vapply(first$verdicts, function(verdict) {
  paste(verdict$what, verdict$word, verdict$number, sep = "|")
}, "")

test_that("the headline is the one named, or the first that adjusts, and the rule is said", {
  study <- study_of_many()
  weights <- weigh_units(score_units(study))
  effects <- list(raw = measure_effect(study), model = measure_effect(study, estimator = "regression"),
                  weights = measure_effect(weights))
  first <- first_of(effects)
  expect_match(first$rule, "\"model\", the first one that adjusts, since none was named; the other 2 stand below")
  expect_match(first$answer, number_text(tidy(effects$model)$estimate[3]), fixed = TRUE)
  named <- first_of(effects, "weights", designs = list(weights = weights))
  expect_match(named$rule, "\"weights\", named as the headline")
  expect_match(named$answer, number_text(tidy(effects$weights)$estimate[3]), fixed = TRUE)
  alone <- first_of(effects[1])
  expect_match(alone$rule, "the only effect measured")
  expect_match(alone$answer, "nothing adjusted")
  file <- withr::local_tempfile(fileext = ".html")
  expect_error(write_report(file, study, effects = effects, headline = "wieghts"), "must name an effect",
               class = "twin_error_input")
})

test_that("five verdicts are a word and a number each, and lead to a section that is there", {
  study <- study_of_many()
  scored <- score_units(study)
  designs <- list(pairs = pair_units(scored), weights = weigh_units(scored))
  effects <- list(raw = measure_effect(study), pairs = measure_effect(designs$pairs),
                  augmented = measure_effect(designs$weights, estimator = "augmented"))
  probe <- probe_effect(effects$augmented, draws = 0)
  first <- first_of(effects, "augmented", list(every = probe), designs)
  found <- verdicts_of(first)
  expect_length(found, 5)
  s <- summary(assess_balance(designs$weights))
  expect_match(found[2], sprintf("Balance|%s|%d of %d rows", if (s$balanced) "reached" else "not reached", s$passing,
                                 s$rows), fixed = TRUE)
  expect_match(found[3], "Designs after opening|none|2 before", fixed = TRUE)
  p <- glance(compare_effects(!!!effects))$p.value
  expect_match(found[4], sprintf("Estimates|%s|joint p %s of 2", if (p >= 0.05) "agree" else "differ", p_phrase(p)),
               fixed = TRUE)
  times <- glance(probe)$times_interval
  if (is.na(times)) times <- glance(probe)$times
  expect_match(found[5], sprintf("Hidden bias|%s|%s times", if (times > 1) "sturdy" else "fragile",
                                 number_text(times, 2)), fixed = TRUE)
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, study, designs, effects, list(every = probe), headline = "augmented")
  page <- paste(readLines(file), collapse = "\n")
  for (verdict in first$verdicts) expect_match(page, sprintf("<section id=\"%s\"", verdict$at), fixed = TRUE)
  expect_lt(regexpr("class=\"verdicts\"", page), regexpr("<section", page))
  expect_lt(file.size(file), 3e6)
})

test_that("verdicts say when there is nothing to judge by, and when something is wrong", {
  study <- study_of_many()
  found <- verdicts_of(first_of(list(raw = measure_effect(study))))
  expect_match(found[1], "Overlap|not judged", fixed = TRUE)
  expect_match(found[4], "a single adjusted one")
  expect_match(found[5], "Hidden bias|not probed", fixed = TRUE)
  data <- many_crews()
  data$past <- data$past + 40 * data$joined
  poor <- frame_study(data, "joined", "income", ~ past + boat)
  effect <- measure_effect(poor)
  expect_match(verdicts_of(first_of(list(raw = effect)))[2], "Balance|not reached|worst", fixed = TRUE)
  sealed <- study_of_many()
  parts <- with_headline(report_parts(sealed, list(), list(), list(), NULL, list(), describe_groups(sealed)), NULL)
  withr::defer(drop_figures(parts$figures))
  expect_match(verdicts_of(report_first(parts))[3], "Outcome|sealed|0 designs tried so far", fixed = TRUE)
  expect_null(report_first(parts)$answer)
})

test_that("every kind of probe says where its conclusion turns", {
  study <- study_of_many()
  shares <- study_of_many(outcome = "direct")
  plain <- measure_effect(weigh_units(score_units(study_of_many(covariates = c("boat", "port")))))
  scored <- score_units(study)
  pairs <- measure_effect(pair_units(scored))
  weights <- measure_effect(weigh_units(scored))
  share <- measure_effect(weigh_units(score_units(shares)))
  runs <- list(effect = probe_effect(weights, draws = 0), pairs = probe_pairs(pairs),
               weights = probe_weights(weights, draws = 0), omitted = probe_omitted(weights), ratio = probe_ratio(share),
               stability = probe_stability(weights), placebo = probe_placebo(plain, outcomes = "past"),
               choices = probe_choices(pairs, caliper = c(0.1, 0.2)),
               stand_ins = probe_stand_ins(suppressWarnings(measure_did(harbour_panel(), estimator = "synthetic")), most = 3),
               trends = probe_trends(summarise_did(measure_did(harbour_panel()), "event"), m = c(0, 1)))
  expect_setequal(names(runs), names(probes))
  for (name in names(runs)) {
    turn <- probes[[name]]$turn(runs[[name]])
    expect_true(nzchar(turn$word) && nzchar(turn$number) && turn$tone %in% c("good", "care", "open"), label = name)
  }
  expect_match(probes$pairs$turn(runs$pairs)$number, number_text(glance(runs$pairs)$gamma_change, 2), fixed = TRUE)
  expect_identical(probes$stand_ins$turn(runs$stand_ins)$word, "one sign")
  nothing <- probe_pairs(c(-1, 1, -2, 2, 0.5, -0.5))
  expect_identical(probes$pairs$turn(nothing)$word, "no conclusion")
  expect_identical(turning_point(Inf, 1, "")$word, "none would do")
})

test_that("a page has no sentence twice in its headings, no picture drawn twice, and every figure its text", {
  study <- study_of_many()
  scored <- score_units(study)
  designs <- list(pairs = pair_units(scored), weights = weigh_units(scored))
  effects <- list(raw = measure_effect(study), weights = measure_effect(designs$weights))
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, study, designs, effects, list(ratio = probe_ratio(effects$weights)),
               powers = list(before = assess_power(designs$weights, sd = 3)))
  page <- paste(readLines(file), collapse = "\n")
  sources <- regmatches(page, gregexpr("src=\"[^\"]*\"", page))[[1]]
  expect_identical(anyDuplicated(sources), 0L)
  alts <- regmatches(page, gregexpr("alt=\"[^\"]*\"", page))[[1]]
  expect_identical(anyDuplicated(alts), 0L)
  ids <- regmatches(page, gregexpr(" id=\"[^\"]*\"", page))[[1]]
  expect_identical(anyDuplicated(ids), 0L)
  expect_lt(regexpr("<h1>", page), regexpr("class=\"verdicts\"", page))
  shown <- gsub("aria-label=\"[^\"]*\"", "", page)
  expect_identical(lengths(regmatches(shown, gregexpr("What this design could detect", shown))), 1L)
})

test_that("a Word file holds the same: headings, real tables, pictures with their text", {
  skip_if_not_installed("officer")
  study <- study_of_many()
  data <- many_crews()
  design <- weigh_units(score_units(study))
  effects <- list(raw = measure_effect(study), weights = measure_effect(design))
  file <- withr::local_tempfile(fileext = ".docx")
  write_report(file, study, list(weights = design), effects, title = "A & B <c>")
  folder <- withr::local_tempdir()
  utils::unzip(file, exdir = folder)
  xml <- xml2::read_xml(file.path(folder, "word", "document.xml"))
  text <- xml2::xml_text(xml)
  expect_match(text, "A & B <c>", fixed = TRUE)
  expect_match(text, "Referee's checklist", fixed = TRUE)
  expect_gt(length(xml2::xml_find_all(xml, "//w:tbl")), 5)
  alts <- xml2::xml_attr(xml2::xml_find_all(xml, "//*[local-name()='docPr']"), "descr")
  expect_gt(length(alts), 3)
  expect_true(all(nchar(alts) > 10))
  expect_identical(length(list.files(file.path(folder, "word", "media"))), length(alts))
  heads <- xml2::xml_find_all(xml, "//w:tbl[1]//w:tblHeader")
  expect_gt(length(heads), 0)
  table <- withr::local_tempfile(fileext = ".docx")
  export_table(assess_balance(design), table, digits = 2)
  utils::unzip(table, exdir = file.path(folder, "t"))
  cells <- xml2::xml_text(xml2::xml_find_all(xml2::read_xml(file.path(folder, "t", "word", "document.xml")), "//w:tc"))
  rows <- nrow(tidy(assess_balance(design))) / 2
  expect_identical(length(cells), 8L * as.integer(rows + 1))
})
