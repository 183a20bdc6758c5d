# What a choice on the desk does to the plan, without a browser.

desk_plan_of_demo <- function() carefultwin:::demo_on_desk()$plan

read_back <- function(plan, folder = tempdir()) {
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), file.path(folder, "plan.yml"))
  read[setdiff(names(read), c("path", "lines"))]
}

answer_of <- function(plan, step, path, kept = new.env()) {
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), path)
  suppressMessages(carefultwin:::answer_step(read, step, kept))
}

test_that("a plan that is written is read back as it was", {
  plan <- list(study = list(data = "yes: no.csv", treatment = "x y", treated = "1", outcome = list("a", "b"),
                            covariates = "~ log(size) + gear", missing = "flag", subset = "a > 1 & b == \"n\""),
               designs = list("odd name: {1}" = list("score", list(pair = list(caliper = 0.123456789012, ratio = 3, replacement = TRUE))),
                              true = list(list(weigh = list(method = "inverse", truncate = list(bound = 20))))),
               effects = list(raw = list(), second = list(design = "true", estimator = "augmented")))
  again <- read_back(plan)
  plan$study$outcome <- unlist(plan$study$outcome)  # texts in a row come back as one vector
  plan$designs <- lapply(plan$designs, as.list)
  expect_equal(lapply(again, rapply, f = identity, how = "list"), lapply(plan, rapply, f = identity, how = "list"))
  expect_equal(read_back(again), again)
})

test_that("every kind of design that the page adds makes a design, with the settings chosen", {
  skip_if_not_installed("callr")
  opened <- carefultwin:::demo_on_desk()
  plan <- opened$plan
  plan$designs <- NULL
  for (kind in names(carefultwin:::desk_designs)) plan <- carefultwin:::add_design(plan, kind)
  plan <- carefultwin:::add_design(plan, "pairs", list(link = "probit", trim = "range", caliper = "0.05", ratio = 2, terms = "no such"))
  plan <- carefultwin:::add_design(plan, "weights", list(bound = "-3"))
  expect_identical(names(plan$designs), c("pairs", "full", "cells", "strata", "weights", "entropy", "pairs 1", "weights 1"))
  expect_identical(plan$designs[["pairs 1"]], list(list(score = list(link = "probit")), list(trim = list(rule = "range", bounds = list(0.1, 0.9))),
                                                   list(pair = list(caliper = 0.05, ratio = 2))))
  expect_identical(plan$designs[["weights 1"]], plan$designs$weights)
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  kept <- new.env()
  answer <- suppressMessages(carefultwin:::answer_step(read, "designs", kept))
  expect_identical(answer$failed, character())
  expect_match(answer$verdict, "of 8 designs balanced")
  expect_named(answer$choices, names(plan$designs))
  expect_match(answer$seal, "still sealed; 7 designs tried")
})

test_that("a design shows the fields it was made by, and is changed by them", {
  plan <- desk_plan_of_demo()
  for (kind in names(carefultwin:::desk_designs)) {
    fields <- carefultwin:::desk_designs[[kind]]$fields
    plan <- carefultwin:::add_design(plan, kind, list(link = "learners", trim = "common_support", caliper = 0.05, ratio = 2,
                                                      strata = 8, bound = 20))
    name <- utils::tail(names(plan$designs), 1L)
    again <- read_back(plan)$designs[[name]]
    known <- carefultwin:::known_design(again)
    expect_identical(known$kind, kind)
    expect_identical(names(known$values), names(fields))
    if ("link" %in% names(fields)) expect_identical(known$values[c("link", "trim")], list(link = "learners", trim = "common_support"))
  }
  expect_identical(carefultwin:::known_design(plan$designs$strata)$values$strata, 8)
  changed <- carefultwin:::change_design(plan, "pairs", "caliper", "0.5")
  expect_identical(changed$designs$pairs, list("score", list(pair = list(caliper = 0.5))))
  expect_identical(carefultwin:::change_design(plan, "pairs", "no such", 1), plan)
  cut <- carefultwin:::change_design(carefultwin:::cut_scores(plan, 0.05, 1), "pairs", "ratio", 3)
  expect_identical(cut$designs$pairs[[2L]], list(trim = list(rule = "range", bounds = list(0.05, 1))))
  ruled <- carefultwin:::change_design(cut, "pairs", "trim", "least_variance")  # a rule takes the place of the cut
  expect_identical(ruled$designs$pairs[[2L]], list(trim = list(rule = "least_variance")))
  own <- list(designs = list(own = list("score", list(pair = list(caliper = 0.2, replacement = TRUE)))))
  expect_null(carefultwin:::known_design(own$designs$own))
  expect_identical(carefultwin:::change_design(own, "own", "caliper", 1), own)
  formula <- carefultwin:::change_design(plan, "weights", "model", " ~ boat_length + log(crew_size) ")
  expect_identical(formula$designs$weights[[1L]], list(score = list(model = "~ boat_length + log(crew_size)")))
})

test_that("numbers are declared codes of categories, with labels or without", {
  plan <- list(study = list(data = "a.csv"))
  bare <- carefultwin:::set_codes(plan, "fuel", TRUE)
  expect_identical(bare$study$categories, list("fuel"))
  both <- carefultwin:::set_codes(bare, "kind", TRUE, "1 = small; 2 = large, and more")
  expect_identical(both$study$categories, list(fuel = NULL, kind = list("1" = "small", "2" = "large")))
  expect_identical(carefultwin:::labels_text(both$study$categories$kind), "1 = small, 2 = large")
  read <- read_back(both)$study$categories
  expect_identical(names(read), c("fuel", "kind"))
  expect_null(read$fuel)
  expect_identical(carefultwin:::set_codes(both, "kind", FALSE)$study$categories, list("fuel"))
  expect_null(carefultwin:::set_codes(bare, "fuel", FALSE)$study$categories)
  folder <- withr::local_tempdir()
  set.seed(3)
  units <- data.frame(joined = rep(0:1, 60), income = stats::rnorm(120), fuel = rep(1:3, 40), size = stats::rnorm(120))
  utils::write.csv(units, file.path(folder, "a.csv"), row.names = FALSE)
  plan <- list(study = list(data = "a.csv", treatment = "joined", outcome = "income", covariates = list("fuel", "size"),
                            subset = "size > -10"))
  path <- file.path(folder, "plan.yml")
  coded <- carefultwin:::set_codes(plan, "fuel", TRUE, "1 = wood, 2 = coal, 3 = wind")
  expect_match(answer_of(coded, "question", path)$html, "fuel: coal", fixed = TRUE)
  few <- answer_of(carefultwin:::set_codes(plan, "fuel", TRUE, "1 = wood"), "question", path)
  expect_match(few$failed, "The categories of \"fuel\" lack")
  columns <- carefultwin:::answer_columns(list(study = list(data = "a.csv"), path = path))
  html <- as.character(carefultwin:::sentence_with_gaps(coded, columns))
  expect_match(html, "value=\"1 = wood, 2 = coal, 3 = wind\"", fixed = TRUE)
  expect_match(html, "6 rows, without the outcome (income)", fixed = TRUE)
  expect_no_match(html, format(signif(units$income[1], 6)), fixed = TRUE)
  expect_match(html, substr(format(units$size[1], digits = 8), 1, 6), fixed = TRUE)
  expect_match(html, "value=\"size &gt; -10\"", fixed = TRUE)
})

test_that("what rests on a design goes with it; effects with settings of their own stay", {
  plan <- carefultwin:::unseal_plan(desk_plan_of_demo())
  expect_identical(names(plan$effects), c("raw", "pairs", "weights"))
  expect_identical(carefultwin:::unseal_plan(plan), plan)
  plan$effects$own <- list(design = "weights", estimator = "augmented", family = "gaussian")
  more <- carefultwin:::set_effects(plan, "weights", c("difference", "targeted"))
  expect_identical(setdiff(names(more$effects), names(plan$effects)), "weights targeted")
  fewer <- carefultwin:::set_effects(carefultwin:::set_probed(more, c("weights", "pairs")), "weights", "targeted")
  expect_identical(names(fewer$effects), c("raw", "pairs", "own", "weights targeted"))
  expect_identical(names(fewer$probes), "hidden bias in pairs")
  expect_identical(carefultwin:::chosen_estimators(fewer, "weights"), c("augmented", "targeted"))
  gone <- carefultwin:::drop_design(fewer, "weights")
  expect_identical(names(gone$effects), c("raw", "pairs"))
  expect_identical(names(gone$designs), "pairs")
  none <- carefultwin:::drop_design(carefultwin:::drop_design(desk_plan_of_demo(), "pairs"), "weights")
  expect_identical(names(read_back(none)), "study")
})

test_that("undo and redo walk through the plans; a choice that changes nothing is none", {
  first <- desk_plan_of_demo()
  history <- carefultwin:::new_history(first)
  expect_identical(carefultwin:::move_on(history, first), history)
  second <- carefultwin:::add_design(first, "entropy")
  history <- carefultwin:::move_on(history, second)
  back <- carefultwin:::undo(history)
  expect_identical(back$plan, first)
  expect_identical(carefultwin:::redo(back)$plan, second)
  expect_identical(carefultwin:::undo(carefultwin:::undo(back)), back)
  aside <- carefultwin:::move_on(back, carefultwin:::add_design(first, "cells"))
  expect_identical(carefultwin:::redo(aside), aside)
})

test_that("a step is asked anew when what it hangs on changes, and no other", {
  plan <- carefultwin:::unseal_plan(desk_plan_of_demo())
  columns <- list(name = "x")
  answers <- list()
  asked <- character()
  repeat {
    step <- carefultwin:::next_step(plan, answers, columns)
    if (is.null(step)) break
    asked <- c(asked, step)
    answers[[step]] <- list(key = carefultwin:::step_key(plan, step), value = list(failed = character()))
  }
  expect_identical(asked, c("question", "score", "designs", "power", "effects", "help"))
  expect_identical(carefultwin:::next_step(carefultwin:::set_effects(plan, "weights", "augmented"), answers, columns), "effects")
  expect_identical(carefultwin:::next_step(carefultwin:::set_probed(plan, "weights"), answers, columns), "bias")
  expect_identical(carefultwin:::next_step(carefultwin:::set_question(plan, list(estimand = "ATE")), answers, columns), "question")
  expect_identical(carefultwin:::next_step(plan, list(), NULL), "columns")
  expect_null(carefultwin:::next_step(carefultwin:::set_question(plan, list(outcome = "")), answers, columns))
  answers$question$value$failed <- c(study = "no")
  expect_null(carefultwin:::next_step(carefultwin:::set_probed(plan, "weights"), answers, columns))
})

test_that("steps say what failed and go on with the rest; what stands is not made again", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::set_effects(carefultwin:::unseal_plan(opened$plan), "weights", c("difference", "augmented"))
  plan$designs$bad <- list("score", list(pair = list(caliper = 1e-12)))
  plan$effects$bad <- list(design = "bad")
  as_read <- function(plan) carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  kept <- new.env()
  answers <- lapply(c(question = "question", designs = "designs", effects = "effects"),
                    function(step) carefultwin:::answer_step(as_read(plan), step, kept))
  expect_identical(names(answers$designs$failed), "bad")
  expect_identical(names(answers$effects$failed), "bad")
  expect_match(answers$effects$failed, "design \"bad\" could not be made")
  expect_identical(answers$effects$verdict, "4 estimates")
  expect_match(answers$effects$seal, "first opened on .*: 2 designs before, 0 after")
  expect_match(answers$question$html, "612 units", fixed = TRUE)
  made <- length(kept$made)
  carefultwin:::answer_step(as_read(plan), "effects", kept)
  expect_length(kept$made, made)
  # a design after the seal is counted, in a worker that knows only the logbook too
  plan <- carefultwin:::add_design(plan, "entropy")
  fresh <- new.env()
  fresh$log <- answers$effects$log
  expect_match(carefultwin:::answer_step(as_read(plan), "designs", fresh)$seal, "2 designs before, 1 after")
})

test_that("designs tried under another question are not forgotten when the first comes back", {
  opened <- carefultwin:::demo_on_desk()
  kept <- new.env()
  first <- answer_of(opened$plan, "designs", opened$path, kept)
  expect_match(first$seal, "2 designs tried so far")
  ate <- carefultwin:::drop_design(carefultwin:::set_question(opened$plan, list(estimand = "ATE")), "pairs")
  expect_match(answer_of(ate, "designs", opened$path, kept)$seal, "3 designs tried so far")
  back <- answer_of(opened$plan, "designs", opened$path, kept)
  expect_match(back$seal, "3 designs tried so far")
  expect_identical(back$log$step, seq_len(nrow(back$log)))
  expect_gt(nrow(back$log), nrow(first$log))
})

test_that("the script that stands beside a plan gives the numbers of the plan", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::set_effects(carefultwin:::unseal_plan(opened$plan), "weights", c("difference", "augmented"))
  plan$study$subset <- "crew_size > 1"
  plan$designs$weights <- list(list(score = list(model = "~ boat_length + past_income + I(past_income^2)")), list(weigh = list(method = "inverse")))
  plan$effects$augmented <- list(design = "weights", estimator = "augmented", family = list(income = "gaussian"))
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  script <- carefultwin:::plan_script(read)
  expect_false(any(nchar(unlist(strsplit(script, "\n"))) > 140))
  own <- new.env()
  withr::with_dir(dirname(opened$path), utils::capture.output(suppressWarnings(eval(parse(text = script), own))))
  kept <- new.env()
  for (step in c("designs", "effects")) carefultwin:::answer_step(read, step, kept)
  found <- carefultwin:::step_parts(read, "effects", carefultwin:::made_study(read, kept), kept)$parts$effects
  expect_setequal(names(found), names(own$effects))
  for (name in names(found)) expect_equal(tidy(found[[name]]), tidy(own$effects[[name]]), tolerance = 1e-12)
})

test_that("a graph is drawn arrow by arrow; a cycle is refused; a set is taken", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::start_graph(opened$plan)
  graph <- carefultwin:::graph_of_plan(plan)
  expect_identical(c(graph$exposure, graph$outcome), c("joined", "income"))
  expect_identical(sum(graph$parents), 17L)  # eight causes of two, and the effect
  other <- carefultwin:::graph_of_plan(carefultwin:::set_question(plan, list(treatment = "in_debt", outcome = "no node")))
  expect_identical(c(other$exposure, other$outcome), c("in_debt", "income"))
  expect_true(is.null(plan$designs) == is.null(opened$plan$designs))
  expect_error(carefultwin:::toggle_arrow(plan, "income", "boat_length"), "no cycle", class = "twin_error_input")
  fewer <- carefultwin:::toggle_arrow(carefultwin:::toggle_arrow(plan, "crew_size", "joined"), "crew_size", "income")
  expect_identical(sum(carefultwin:::graph_of_plan(fewer)$parents), 15L)
  expect_true("crew_size" %in% rownames(carefultwin:::graph_of_plan(fewer)$parents))  # a node without arrows stays
  expect_setequal(as.data.frame(carefultwin:::graph_of_plan(carefultwin:::toggle_arrow(
    carefultwin:::toggle_arrow(plan, "crew_size", "joined"), "crew_size", "joined")))$from, as.data.frame(graph)$from)
  gone <- carefultwin:::drop_node(fewer, "crew_size")
  expect_false("crew_size" %in% rownames(carefultwin:::graph_of_plan(gone)$parents))
  answer <- answer_of(gone, "assumptions", opened$path)
  expect_identical(answer$sets, list(sort(setdiff(unlist(opened$plan$study$covariates), "crew_size"), method = "radix")))
  expect_match(answer$html, "Not in the graph, and adjusted for as well: crew_size.", fixed = TRUE)
  taken <- carefultwin:::take_set(gone, answer$sets[[1L]])
  expect_no_match(answer_of(taken, "assumptions", opened$path)$html, "adjusted for as well")
  expect_null(carefultwin:::set_question(taken, list(graph = ""))$study$graph)
  hidden <- carefultwin:::add_node(gone, "mood at home", observed = FALSE)
  for (end in c("joined", "income")) hidden <- carefultwin:::toggle_arrow(hidden, "mood at home", end)
  told <- answer_of(hidden, "assumptions", opened$path)
  expect_identical(told$verdict, "covariates do not suffice")
  expect_match(told$html, "none suffices", fixed = TRUE)
  expect_match(told$html, "joined &lt;- mood at home -&gt; income", fixed = TRUE)
  drawing <- as.character(carefultwin:::graph_svg(carefultwin:::graph_of_plan(hidden), unlist(hidden$study$covariates)))
  expect_length(gregexpr("class=\"edge open\"", drawing, fixed = TRUE)[[1L]], 2L)
  expect_match(drawing, "aria-label=\"mood at home, not observed: causes joined, income\"", fixed = TRUE)
})

test_that("while the outcome is closed the graph's claims about it are not tested", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::start_graph(opened$plan)
  plan <- carefultwin:::toggle_arrow(plan, "skipper_age", "income")  # so that something is claimed of the outcome
  closed <- answer_of(plan, "assumptions", opened$path)
  expect_match(closed$html, "1 more claim about the outcome: tested when it is open", fixed = TRUE)
  expect_no_match(closed$html, "skipper_age and income are independent|income and skipper_age are independent")
  expect_match(closed$seal, "still sealed")
  open <- answer_of(carefultwin:::unseal_plan(plan), "assumptions", opened$path)
  expect_match(open$html, "(skipper_age and income|income and skipper_age) are independent")
  expect_match(open$seal, "first opened")
})

test_that("scores are cut in every design that has one, again and again", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::add_design(opened$plan, "entropy")
  once <- carefultwin:::cut_scores(plan, 0.1, 0.8)
  expect_identical(once$designs$pairs[[2L]], list(trim = list(rule = "range", bounds = list(0.1, 0.8))))
  expect_identical(once$designs$entropy, plan$designs$entropy)
  expect_identical(carefultwin:::cut_of(once$designs), c(0.1, 0.8))
  again <- carefultwin:::cut_scores(once, 0.05, 0.9)
  expect_length(again$designs$pairs, 3L)
  expect_identical(carefultwin:::cut_scores(again, 0, 1)$designs, plan$designs)
  cuts <- answer_of(plan, "score", opened$path)$cuts
  expect_identical(vapply(cuts, sum, 0), c(treated = 612, control = 1792))
  kept <- new.env()
  answer_of(once, "designs", opened$path, kept)
  trimmed <- Find(function(made) inherits(made$value, "twin_design"), kept$made)$value
  fallen <- tidy(trimmed, part = "trimming")
  expect_equal(c(fallen$treated, fallen$control), c(612 - sum(cuts$treated[11:80]), 1792 - sum(cuts$control[11:80])))
})

test_that("a panel goes through its steps, and its script gives the numbers of the plan", {
  folder <- withr::local_tempdir()
  file.copy(system.file("extdata", "harbours.csv", package = "carefultwin"), folder)
  path <- file.path(folder, "plan.yml")
  columns <- carefultwin:::answer_columns(list(study = list(data = "harbours.csv"), path = path))
  plan <- carefultwin:::set_kind(list(study = list(data = "harbours.csv")), "panel", columns)
  expect_identical(plan$panel[c("time", "unit", "treatment", "outcome")],
                   list(time = "quarter", unit = "harbour", treatment = "cold_store", outcome = "price"))
  kept <- new.env()
  question <- answer_of(plan, "question", path, kept)
  expect_identical(question$verdict, "60 units, 16 periods")
  expect_match(answer_of(plan, "trends", path, kept)$verdict, "^parallel[?] p = 0[.][0-9]+$")
  expect_null(carefultwin:::next_step(plan, list(question = list(key = carefultwin:::step_key(plan, "question")),
                                                 trends = list(key = carefultwin:::step_key(plan, "trends")),
                                                 help = list(key = "panel")), columns))  # the rest is sealed
  plan <- carefultwin:::add_path(carefultwin:::unseal_plan(plan), list(estimator = "imputation", over = "event", anticipation = "1"))
  expect_identical(plan$effects[["imputation path"]], list(estimator = "imputation", anticipation = 1, over = "event"))
  plan <- carefultwin:::add_path(plan, list(estimator = "two_way", over = "event"))  # which has no path
  expect_identical(plan$effects[["two-way 1"]], list(estimator = "two_way"))
  plan <- carefultwin:::add_probe(plan, "trends", "path")
  expect_identical(carefultwin:::add_probe(plan, "pairs", "path"), plan)  # a probe of studies
  two <- carefultwin:::set_question(plan, list(outcome = list("price", "boats"), covariates = list("market_km")))
  named <- carefultwin:::add_path(two, list(estimator = "imputation", outcome = "boats"))
  expect_identical(named$effects[["imputation of boats"]], list(outcome = "boats", estimator = "imputation", over = "all"))
  expect_identical(names(carefultwin:::add_path(two, list(estimator = "imputation", outcome = "price"))$effects)[6], "imputation")
  expect_identical(answer_of(plan, "effects", path, kept)$verdict, "5 estimates")
  expect_identical(answer_of(plan, "decomposition", path, kept)$verdict, "taken apart")
  expect_identical(answer_of(plan, "bias", path, kept)$verdict, "1 probe")
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), path)
  own <- new.env()
  script <- carefultwin:::plan_script(read)
  withr::with_dir(folder, utils::capture.output(suppressWarnings(eval(parse(text = script), own))))
  expect_true(file.exists(file.path(folder, "report.html")))
  found <- carefultwin:::panel_step_parts(read, "report", carefultwin:::made_study(read, kept), kept)$parts
  expect_setequal(names(found$effects), names(own$effects))
  for (name in names(found$effects)) expect_equal(tidy(found$effects[[name]]), tidy(own$effects[[name]]), tolerance = 1e-12)
  expect_equal(tidy(found$probes[[1L]]), tidy(own$probes[[1L]]), tolerance = 1e-12)
  expect_identical(names(carefultwin:::drop_effects(plan, "path")$probes), NULL)
  study <- carefultwin:::set_kind(plan, "study", columns)
  expect_identical(names(study), "study")
})

test_that("doses, groups, drawn errors, switching, held treatments and kinds have their controls", {
  folder <- withr::local_tempdir()
  boats$coast <- ifelse(boats$port %in% sort(unique(boats$port))[1:8], "east", "west")
  boats$since <- ifelse(boats$engine_kw > 0, boats$season, NA)
  boats$since <- stats::ave(boats$since, boats$boat, FUN = function(x) if (all(is.na(x))) NA else min(x, na.rm = TRUE))
  boats$power <- stats::ave(boats$engine_kw, boats$boat, FUN = max)
  boats$engine <- ifelse(boats$engine_kw == 0, "old", ifelse(boats$power > 90, "strong", "new"))
  write_units(boats, file.path(folder, "boats.csv"))
  path <- file.path(folder, "plan.yml")
  columns <- carefultwin:::answer_columns(list(panel = list(data = "boats.csv"), path = path))
  answer <- function(plan, key, value) carefultwin:::set_answer(plan, key, value, columns)
  plan <- list(panel = list(data = "boats.csv", outcome = "fuel", time = "season", unit = "boat", first_treated = "since"))
  view <- function(plan) as.character(carefultwin:::sentence_with_gaps(plan, columns))
  expect_match(view(plan), "id=\"dose\".*id=\"held\".*id=\"switching\"")
  dosed <- carefultwin:::unseal_plan(answer(plan, "dose", "power"))
  expect_identical(dosed$panel$dose, "power")
  expect_true("dose" %in% carefultwin:::path_fields(dosed, columns)$estimator$kind)
  expect_false("dose" %in% carefultwin:::path_fields(plan, columns)$estimator$kind)
  dosed <- carefultwin:::add_path(dosed, list(estimator = "dose", over = "event"), columns)
  expect_identical(dosed$effects$dose, list(estimator = "dose"))
  dosed <- carefultwin:::add_path(dosed, list(by = "coast", inference = "bootstrap"), columns)
  expect_identical(dosed$effects[["group-time by coast"]],
                   list(estimator = "group_time", by = "coast", inference = "bootstrap", over = "all"))
  expect_identical(carefultwin:::add_path(plan, list(by = "boat"), columns)$effects[[1L]]$by, NULL)  # too many
  dosed$effects[["group-time by coast"]]$inference <- NULL  # 999 draws for each coast
  shown <- answer_of(dosed, "effects", path)
  expect_identical(shown$verdict, "6 estimates")  # one of each coast
  expect_true(grepl("group-time by coast, east", shown$html, fixed = TRUE))
  expect_true(grepl("on average over the doses that treated units have", shown$html, fixed = TRUE))
  kinds <- answer(answer(plan, "treatment", "engine"), "reference", "old")
  expect_identical(kinds$panel[c("treatment", "reference", "treated", "first_treated")],
                   stats::setNames(list("engine", "old", NULL, NULL), c("treatment", "reference", NA, NA)))
  expect_match(view(kinds), "Value that means none")
  expect_no_match(view(kinds), "Value that means treated")
  each <- carefultwin:::add_path(kinds, list(estimator = "imputation"), columns)
  expect_true(grepl("imputation, strong", answer_of(each, "effects", path)$html, fixed = TRUE))
  one <- answer(kinds, "reference", "")
  expect_null(one$panel$reference)
  ice <- list(panel = list(data = "boats.csv", outcome = "catch", time = "season", unit = "boat", treatment = "ice_machine"))
  switching <- answer(ice, "switching", "TRUE")
  expect_identical(switching$panel$switching, TRUE)
  expect_identical(answer(switching, "switching", ""), ice)
  expect_identical(answer(ice, "held", "since")$panel$held, "since")
  path_of <- carefultwin:::add_path(switching, list(over = "event"), columns)
  expect_true(grepl("switch", answer_of(path_of, "effects", path)$html, fixed = TRUE))
})

test_that("a part of a panel that can't be made is told of, and the rest goes on", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "plan.yml")
  set.seed(4)
  units <- expand.grid(time = 1:2, unit = 1:40)
  units$treated <- units$time == 2 & units$unit <= 15
  units$y <- stats::rnorm(80) + units$treated
  utils::write.csv(units, file.path(folder, "a.csv"), row.names = FALSE)
  plan <- list(panel = list(data = "a.csv", outcome = "y", time = "time", unit = "unit", treatment = "treated"), trends = TRUE,
               decompose = TRUE)
  plan <- carefultwin:::unseal_plan(plan)
  kept <- new.env()
  trends <- answer_of(plan, "trends", path, kept)  # there is a single period before treatment
  expect_named(trends$failed, "trends")
  expect_identical(trends$verdict, "not judged")
  expect_identical(answer_of(plan, "effects", path, kept)$verdict, "3 estimates")
})

test_that("servers stand in the script as their drivers want them named", {
  lines <- carefultwin:::script_connection(list(connect = "postgres", service = "harbours", query = "SELECT * FROM crews"))
  expect_identical(lines, c("connection <- DBI::dbConnect(RPostgres::Postgres(), service = \"harbours\")",
                            "units <- remote_units(connection, DBI::SQL(\"SELECT * FROM crews\"))"))
})

test_that("a study in a database goes through the steps by its plan", {
  skip_if_not_installed("RSQLite")
  folder <- withr::local_tempdir()
  carefultwin:::write_demo_database(system.file("extdata", "crews.csv", package = "carefultwin"), file.path(folder, "crews.sqlite"))
  path <- file.path(folder, "plan.yml")
  file.copy(system.file("extdata", "database.yml", package = "carefultwin"), path)
  withr::defer(carefultwin:::close_databases())
  plan <- carefultwin:::plan_on_desk(path, NULL)$plan
  columns <- carefultwin:::answer_columns(c(plan, path = path))
  expect_match(columns$note, "first rows")
  expect_true(all(c("joined", "income") %in% columns$name))
  kept <- new.env()
  expect_match(answer_of(plan, "question", path, kept)$verdict, "612 treated, 1,792 control")
  expect_null(answer_of(plan, "score", path, kept)$cuts)
  designs <- answer_of(plan, "designs", path, kept)
  expect_match(designs$verdict, "of 3 designs balanced")
  expect_named(designs$choices, c("weights", "strata", "entropy"))
  expect_identical(answer_of(plan, "effects", path, kept)$verdict, "6 estimates")
  own <- new.env()
  plan$effects <- plan$effects[c("raw", "weights")]
  plan$probes <- NULL
  script <- carefultwin:::plan_script(carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), path))
  expect_match(script, "connection <- DBI::dbConnect(RSQLite::SQLite(), \"crews.sqlite\")", fixed = TRUE, all = FALSE)
  withr::with_dir(folder, utils::capture.output(suppressWarnings(eval(parse(text = script[!grepl("write_report", script)]), own))))
  withr::defer(DBI::dbDisconnect(own$connection))
  expect_identical(stats::nobs(own$effects$weights), 2404)
  plan$study$estimand <- "ATE"
  answer_of(plan, "question", path, kept)
  expect_length(carefultwin:::open_databases$all, 1L)  # one connection for both
  html <- as.character(carefultwin:::sentence_with_gaps(plan, columns))
  expect_match(html, "Kinds and shapes are those of the first rows")
})

test_that("two plans of the same data are compared in settings, balance and effects", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::unseal_plan(opened$plan)
  other <- plan
  other$designs$pairs[[2L]]$pair$caliper <- 0.05
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  kept <- new.env()
  same <- carefultwin:::answer_comparison(read, carefultwin:::plan_text(plan), kept)
  expect_identical(same$verdict, "0 differences")
  expect_match(same$html, "Nothing differs")
  told <- carefultwin:::answer_comparison(read, carefultwin:::plan_text(other), kept)
  expect_match(told$html, "caliper")
  expect_match(told$html, "<td[^>]*>0[.]05</td>")
  expect_match(told$html, "balance", fixed = TRUE)
  expect_error(carefultwin:::answer_comparison(read, "study: 3", kept), class = "twin_error_input")
})

test_that("a gap without an answer says so, and one that the data do not know shows it", {
  html <- as.character(carefultwin:::gap_choice("time", "Time", c(a = "a", b = "b"), NULL))
  expect_match(html, "<option value=\"\" *>choose</option>|<option value=\"\">choose</option>")
  html <- as.character(carefultwin:::gap_choice("time", "Time", c(a = "a", b = "b"), "gone"))
  expect_match(html, "<option value=\"gone\" selected>gone</option>", fixed = TRUE)
  html <- as.character(carefultwin:::labelled_gap("weight", "Weight", c(none = "", a = "a"), NULL))
  expect_no_match(html, "choose")
})

test_that("answers to gaps change what they name, and what hangs on it", {
  columns <- list(name = c("a", "b", "y", "z"), levels = list(a = c("0", "1"), b = c("no", "yes"), y = NULL, z = NULL))
  plan <- list(study = list(data = "d.csv", treatment = "a", outcome = list("y", "z"), covariates = list("z")))
  gap <- function(plan, key, value) carefultwin:::set_answer(plan, key, value, columns)$study
  expect_identical(gap(plan, "treatment", "b")[c("treatment", "treated")], list(treatment = "b", treated = "yes"))
  expect_identical(gap(plan, "outcome", "z")$outcome, "z")
  expect_identical(gap(plan, "outcome", "b")$outcome, list("b", "z"))
  expect_identical(gap(plan, "estimand", "ATT"), plan$study)  # what stands there anyway
  expect_identical(gap(plan, "estimand", "ATE")$estimand, "ATE")
  expect_identical(gap(plan, "data", "/etc/passwd"), plan$study)
  panel <- list(panel = list(data = "d.csv", outcome = "y", time = "z", unit = "a", treatment = "b", treated = "yes"))
  onset <- carefultwin:::set_answer(panel, "first_treated", "a", columns)$panel
  expect_identical(onset[c("treatment", "treated", "first_treated")], stats::setNames(list(NULL, NULL, "a"), c(NA, NA, "first_treated")))
  expect_identical(gap(plan, "encoding", "latin1")$encoding, "latin1")
  expect_identical(gap(plan, "sheet", "2")$sheet, 2)
  expect_identical(gap(plan, "sheet", "1"), plan$study)
  expect_identical(gap(plan, "trusted", "true"), plan$study)
  expect_identical(gap(plan, "unknown", "n/a; 99,")$unknown, list("n/a", "99"))
  expect_identical(gap(plan, "unknown", ""), plan$study)
  titled <- carefultwin:::set_report(plan, list(title = "Boats"))
  expect_identical(titled$report, list(title = "Boats"))
  expect_identical(carefultwin:::set_report(titled, list(title = "")), plan)
})

test_that("keys that the page names for what it can't do are keys of a plan", {
  for (part in names(carefultwin:::beyond_page)) {
    known <- as.data.frame(plan_reference(part))$key
    expect_identical(setdiff(names(carefultwin:::beyond_page[[part]]), known), character(), label = part)
  }
  expect_match(as.character(carefultwin:::beyond_view()), "survey strata (stratum)", fixed = TRUE)
})

test_that("a file that is not read as it should be can be read otherwise; labels are the values", {
  folder <- withr::local_tempdir()
  writeLines(iconv(c("Gr\u00f6\u00dfe;alt;teuer", "1,5;ja;2", "2,5;nein;3", "3,5;ja;1"), "UTF-8", "latin1"), file.path(folder, "a.csv"),
             useBytes = TRUE)
  path <- file.path(folder, "plan.yml")
  columns <- function(...) carefultwin:::answer_columns(list(study = list(data = "a.csv", ...), path = path))
  expect_error(columns(), "not\\s+UTF-8", class = "twin_error_file")
  expect_identical(columns(encoding = "latin1")$name[1], "Gr\u00f6\u00dfe")
  expect_match(as.character(carefultwin:::reading_fields(list(data = "a.csv", encoding = "latin1"))), "value=\"latin1\" selected", fixed = TRUE)
  expect_match(as.character(carefultwin:::reading_fields(list(data = "b.xlsx"))), "Sheet", fixed = TRUE)
  expect_null(carefultwin:::reading_fields(list(data = "b.dta")))
  set.seed(2)
  units <- data.frame(joined = rep(0:1, 50), size = c("unclear", stats::rnorm(99)), income = stats::rnorm(100))
  utils::write.csv(units, file.path(folder, "b.csv"), row.names = FALSE)
  facts <- carefultwin:::answer_columns(list(study = list(data = "b.csv"), path = path))
  guess <- carefultwin:::set_kind(list(study = list(data = "b.csv")), "study", facts)
  expect_identical(guess$study$unknown, list("unclear"))
  expect_match(answer_of(guess, "question", path)$html, "size 1 (mean filled in", fixed = TRUE)
  skip_if_not_installed("haven")
  labelled <- haven::labelled(c(0, 1, 1, 0), c(old = 0, new = 1))
  expect_identical(carefultwin:::value_texts(labelled), c("old", "new"))
  expect_identical(carefultwin:::treated_guess(labelled), "new")
  expect_null(carefultwin:::treated_guess(c(0, 1, NA)))
})

test_that("the help of every step is there, without links", {
  for (plan in list(list(study = list()), list(panel = list(data = "a")))) {
    for (view in carefultwin:::plan_step_views(plan)) {
      html <- carefultwin:::step_help(view)
      expect_match(html, "<h3>Description</h3>", fixed = TRUE)
      expect_no_match(html, "<a ")
      for (verb in view$help) expect_match(html, paste0("<code>", verb, "()</code>"), fixed = TRUE)
    }
  }
})

test_that("files that can't be opened are told of", {
  skip_if_not_installed("shiny")
  expect_error(open_desk("none.csv"), "no such file", class = "twin_error_file")
  expect_error(open_desk("none.csv", demo = TRUE), "not both", class = "twin_error_input")
  expect_error(open_desk(demo = NA), "TRUE or FALSE", class = "twin_error_input")
  expect_error(open_desk(demo = TRUE, port = 80), "from 1024", class = "twin_error_input")
  folder <- withr::local_tempdir()
  plan <- file.path(folder, "plan.yml")
  writeLines(c("# mine", "study: {data: b.csv, treatment: d, outcome: y, covariates: x}"), plan)
  writeLines("x", file.path(folder, "a.csv"))
  expect_error(open_desk(file.path(folder, "a.csv")), "is there already, about", class = "twin_error_input")
  opened <- carefultwin:::plan_on_desk(plan, NULL)
  expect_identical(readLines(paste0(plan, ".before"))[1], "# mine")
  expect_identical(opened$plan$study$treatment, "d")
  lone <- file.path(withr::local_tempdir(), "lone.csv")
  writeLines("x", lone)
  expect_true(carefultwin:::plan_on_desk(lone, NULL)$saved)
  expect_false(carefultwin:::plan_on_desk(NULL, NULL)$saved)
})

test_that("the page escapes what users wrote", {
  odd <- "<script>alert(1)</script>\"'"
  plan <- list(study = list(data = "a.csv", treatment = odd, outcome = "y", covariates = list("x")), designs = stats::setNames(list(list("score")), odd),
               effects = stats::setNames(list(list(design = odd)), odd))
  columns <- list(name = c(odd, "x", "y"), kind = c("two values", "number", "number"), missing = c(0L, 3L, 0L),
                  levels = list(c("a", odd), NULL, NULL) |> stats::setNames(c(odd, "x", "y")), counts = list(1:2, 1:10, 1:10), roles = NULL)
  choices <- stats::setNames(list(data.frame(estimator = "difference", words = odd, reason = odd)), odd)
  html <- c(as.character(carefultwin:::sentence_with_gaps(plan, columns)), as.character(carefultwin:::plan_cards(plan$designs, "drop")),
            as.character(htmltools::tagList(carefultwin:::estimator_choice(plan, choices))), as.character(carefultwin:::probe_choice(plan)),
            as.character(carefultwin:::answer_view(list(failed = stats::setNames(odd, odd), notes = odd, html = ""), FALSE)))
  expect_false(any(grepl("<script>", html, fixed = TRUE)))
  expect_match(html[1], "3 missing", fixed = TRUE)
})

test_that("columns show their levels, and what speaks against them", {
  opened <- carefultwin:::demo_on_desk()
  columns <- carefultwin:::answer_columns(c(opened$plan, path = opened$path))
  html <- as.character(carefultwin:::sentence_with_gaps(opened$plan, columns))
  html <- sub("</fieldset>.*$", "", html)
  lines <- strsplit(html, "<div class=\"column\">", fixed = TRUE)[[1L]][-1L]
  expect_length(lines, length(columns$name))
  line <- function(name) lines[match(name, columns$name)]
  expect_match(line("gear"), "levels: dredge, lines, nets, pots", fixed = TRUE)
  expect_match(line("gear"), "50 missing", fixed = TRUE)
  expect_match(line("harbour"), "has another role", fixed = TRUE)
  expect_match(line("days_at_sea"), "may follow from the treatment", fixed = TRUE)
  expect_match(line("boat_length"), "against\"><", fixed = TRUE)
})

test_that("several arms: the sentence has a gap for the reference, and every step answers", {
  skip_if_not_installed("shiny")
  folder <- withr::local_tempdir()
  few <- cures[1:400, ]
  data.table::fwrite(few, file.path(folder, "cures.csv"))
  columns <- carefultwin:::columns_facts(few)
  plan <- list(study = list(data = "cures.csv", treatment = "gone", outcome = "price",
                            covariates = list("boat_length", "past_price")))
  answer <- function(plan, key, value) carefultwin:::set_answer(plan, key, value, columns)
  plan <- answer(plan, "treatment", "cure")
  expect_identical(plan$study[c("treatment", "reference")], list(treatment = "cure", reference = "fresh"))
  html <- as.character(carefultwin:::sentence_with_gaps(plan, columns))
  expect_match(html, "rather than")
  expect_match(html, "those in the arm compared (ATT)", fixed = TRUE)
  expect_identical(answer(plan, "reference", "salted")$study$reference, "salted")
  two <- answer(plan, "treatment", "gone")$study
  expect_identical(two$treatment, "gone")
  expect_null(two$reference)
  plan <- answer(plan, "estimand", "ATC")
  for (kind in c("weights", "strata", "cells", "pairs")) plan <- carefultwin:::add_design(plan, kind)
  plan$effects <- list(raw = list(), weights = list(design = "weights"), pairs = list(design = "pairs"))
  plan$probes <- list(hidden = list(probe = "ratio", effect = "weights"))
  plan$path <- file.path(folder, "plan.yml")
  kept <- new.env()
  kept$made <- kept$books <- list()
  for (step in c("question", "score", "designs", "power", "effects", "bias")) {
    shown <- suppressMessages(carefultwin:::answer_step(plan, step, kept))
    expect_identical(unname(shown$failed), character(), label = step)
    expect_gt(nchar(shown$html), 200, label = step)
    if (step == "question") expect_identical(shown$verdict, "3 arms")
    if (step == "score") expect_match(shown$html, "Overlap of 3 arms")
    if (step == "designs") {
      expect_identical(names(shown$choices), names(plan$designs))
      expect_match(shown$html, "Balance of 3 arms")
    }
    if (step == "effects") expect_match(shown$html, "salted vs fresh")
    if (step == "bias") expect_match(shown$html, "hidden: smoked vs fresh")
  }
  report <- suppressMessages(carefultwin:::answer_report(plan, withr::local_tempdir(), kept))
  expect_true(file.exists(file.path(report$out, "report.html")))
  expect_true(file.exists(file.path(report$out, "tables", "arms-weights.csv")))
})

test_that("who gains is asked by design once the outcome is open, and shown", {
  skip_if_not_installed("shiny")
  plan <- list(study = list(data = "crews.csv", treatment = "joined", outcome = "income",
                            covariates = list("boat_length", "past_income")))
  plan <- carefultwin:::add_design(plan, "weights")
  expect_false(carefultwin:::study_step_views()$variation$able(carefultwin:::set_gains(plan, "weights")))
  plan <- carefultwin:::unseal_plan(plan)
  html <- as.character(carefultwin:::gains_choice(plan))
  expect_match(html, "Who gains more, who less")
  asked <- carefultwin:::set_gains(plan, "weights")
  expect_identical(asked$variation, list("who gains by weights" = list(design = "weights")))
  expect_match(as.character(carefultwin:::gains_choice(asked)), "checked")
  asked$variation$mine <- list(design = "weights", columns = "boat_length")
  expect_identical(names(carefultwin:::other_gains(asked)), "mine")
  expect_identical(names(carefultwin:::set_gains(asked, character())$variation), "mine")
  expect_null(carefultwin:::drop_gains(carefultwin:::set_gains(asked, character()), "mine")$variation)
  expect_null(carefultwin:::drop_design(asked, "weights")$variation)
  expect_null(carefultwin:::drop_effects(asked, names(asked$effects))$variation)
  folder <- withr::local_tempdir()
  data.table::fwrite(crews[1:500, ], file.path(folder, "crews.csv"))
  asked$variation$mine <- NULL
  asked$path <- file.path(folder, "plan.yml")
  kept <- new.env()
  kept$made <- kept$books <- list()
  shown <- suppressMessages(carefultwin:::answer_step(asked, "variation", kept))
  expect_identical(unname(shown$failed), character())
  expect_match(shown$html, "who gains by weights")
  expect_true(shown$verdict %in% c("the effect varies", "no variation was found"))
  expect_identical(carefultwin:::gains_verdict(list()), "not made")
})

test_that("the page offers the questions that columns allow, begins them anew, and shows how doses and histories are designed", {
  skip_if_not_installed("shiny")
  folder <- withr::local_tempdir()
  columns_of <- function(data) {
    data.table::fwrite(data, file.path(folder, "own.csv"))
    carefultwin:::answer_columns(list(study = list(data = "own.csv"), path = file.path(folder, "plan.yml")))
  }
  offered <- function(columns) unname(carefultwin:::kinds_offered(columns))
  start <- list(study = list(data = "own.csv", decimal = "."), designs = list(old = list("score")))
  columns <- columns_of(ice[1:300, ])
  expect_identical(offered(columns), c("study", "dose"))
  dose <- carefultwin:::set_answer(start, "kind", "dose", columns)
  expect_identical(dose$study[c("data", "decimal", "dose", "outcome", "id", "cluster")],
                   list(data = "own.csv", decimal = ".", dose = "tonnes", outcome = "income", id = "crew_id", cluster = "harbour"))
  expect_null(dose$designs)
  expect_identical(carefultwin:::question_kind(dose), "dose")
  expect_identical(carefultwin:::set_answer(dose, "kind", "dose", columns), dose)  # is one already
  expect_identical(carefultwin:::set_answer(dose, "kind", "panel", columns), dose)  # is not offered
  html <- as.character(carefultwin:::sentence_with_gaps(dose, columns))
  expect_match(html, "value=\"dose\" selected")
  expect_match(html, "dose: tonnes, or boat_length")
  expect_match(html, "Rows, as crew_size")
  other <- carefultwin:::set_answer(dose, "dose", "market_km", columns)
  expect_identical(other$study$dose, "market_km")
  ticked <- carefultwin:::tick_column(dose, "spoiled", TRUE, columns)
  expect_identical(unlist(ticked$study$covariates), c(unlist(dose$study$covariates), "spoiled"))
  dose <- carefultwin:::add_design(dose, "weights", list(density = "kernel"))
  expect_identical(carefultwin:::known_design(dose$designs$weights, carefultwin:::page_designs(dose))$values, list(density = "kernel"))
  expect_match(as.character(carefultwin:::design_controls(dose, "weights", 1L)), "value=\"kernel\" selected")
  dose <- carefultwin:::change_design(dose, "weights", "density", "splines")
  expect_identical(dose$designs$weights, list(list(score = list(density = "splines")), "weigh"))
  columns <- columns_of(seasons[seasons$crew %in% unique(seasons$crew)[1:60], ])
  expect_identical(offered(columns), c("study", "dose", "course"))
  expect_identical(carefultwin:::likely_kind(columns), "course")
  course <- carefultwin:::set_kind(start, "course", columns)
  expect_identical(course$study[c("treatment", "unit", "time", "changing")],
                   list(treatment = "stored", unit = "crew", time = "season", changing = list("debt", "catch")))
  html <- as.character(carefultwin:::sentence_with_gaps(course, columns))
  expect_no_match(html, "Rows, as crew_size")  # all rows are needed
  expect_match(html, "value=\"catch\" checked")
  less <- carefultwin:::tick_column(carefultwin:::tick_column(course, "catch", FALSE, columns), "boat_length", FALSE, columns)
  expect_identical(less$study[c("covariates", "changing")], list(covariates = list("port_size"), changing = list("debt")))
  expect_identical(carefultwin:::tick_column(carefultwin:::tick_column(less, "boat_length", TRUE, columns), "catch", TRUE, columns), course)
  longer <- carefultwin:::change_design(carefultwin:::add_design(course, "weights"), "weights", "lags", "2")
  expect_identical(longer$designs$weights[[1L]], list(score = list(lags = 2)))
  keys <- vapply(list(dose, course, start), function(plan) carefultwin:::step_key(plan, "help"), "")
  expect_identical(keys, c("dose", "course", "study"))
  columns <- columns_of(harbours)
  expect_identical(offered(columns), c("study", "dose", "panel", "course"))
  expect_identical(carefultwin:::likely_kind(columns), "panel")
  arms <- carefultwin:::set_kind(start, "study", columns_of(cures[c("boat_length", "cure", "price")]))
  expect_identical(arms$study[c("treatment", "reference")], list(treatment = "cure", reference = "fresh"))
  expect_null(arms$study$treated)
  expect_length(offered(columns_of(data.frame(name = c("a", "b", "c"), place = c("d", "e", "f")))), 0)
})

test_that("doses and histories go through the page by their plans, and the same in R gives the same", {
  skip_if_not_installed("shiny")
  folder <- withr::local_tempdir()
  data.table::fwrite(ice[1:300, ], file.path(folder, "ice.csv"))
  data.table::fwrite(seasons[seasons$crew %in% unique(seasons$crew)[1:150], ], file.path(folder, "seasons.csv"))
  data.table::fwrite(cures[1:300, ], file.path(folder, "cures.csv"))
  through <- function(study, kinds, verdict) {
    plan <- list(study = study)
    for (kind in kinds) plan <- carefultwin:::add_design(plan, kind)
    plan <- carefultwin:::unseal_plan(plan)
    plan <- carefultwin:::add_probe(plan, "ratio", "weights")
    plan$path <- file.path(folder, "plan.yml")
    columns <- carefultwin:::answer_columns(plan)
    html <- as.character(carefultwin:::sentence_with_gaps(plan, columns))
    expect_true(carefultwin:::is_asked(plan))
    kept <- new.env()
    kept$made <- kept$books <- list()
    for (step in names(carefultwin:::plan_step_views(plan))) {
      shown <- suppressMessages(suppressWarnings(carefultwin:::answer_step(plan, step, kept)))
      expect_identical(unname(shown$failed), character(), label = step)
      expect_gt(nchar(shown$html), 200, label = step)
      if (step == "bias") expect_match(shown$html, "hidden confounder would have to be tied")
    }
    report <- suppressMessages(suppressWarnings(carefultwin:::answer_report(plan, withr::local_tempdir(), kept)))
    expect_true(file.exists(file.path(report$out, "report.html")))
    own <- new.env()
    script <- readLines(file.path(report$out, "analysis.R"))
    withr::with_dir(folder, utils::capture.output(suppressWarnings(eval(parse(
      text = script[!grepl("write_report", script)]), own))))
    list(plan = plan, html = html, script = own, kept = kept, shown = shown)
  }
  dose <- through(list(data = "ice.csv", dose = "tonnes", outcome = "income", covariates = list("boat_length", "past_income")),
                  c("weights", "entropy"))
  expect_match(dose$html, "were everybody given so much of")
  expect_identical(names(dose$plan$effects), c("unadjusted", "weights", "entropy"))
  expect_null(dose$plan$power)
  expect_identical(unname(carefultwin:::plain_probes(dose$plan)), "ratio")
  study <- frame_dose(read_units(file.path(folder, "ice.csv")), "tonnes", "income", c("boat_length", "past_income"))
  expect_equal(tidy(dose$script$effects$weights)$estimate,
               tidy(measure_response(weigh_units(score_units(study)), estimator = "augmented"))$estimate)
  course <- through(list(data = "seasons.csv", treatment = "stored", outcome = "savings", time = "season", unit = "crew",
                         covariates = list("boat_length"), changing = list("debt")), "weights")
  expect_match(course$html, "to follow a history of")
  expect_identical(unname(carefultwin:::plain_probes(course$plan)), "ratio")
  expect_s3_class(course$script$effects$weights, "twin_course_effect")
  arms <- list(study = list(data = "cures.csv", treatment = "cure", reference = "fresh", outcome = "price", estimand = "ATE",
                            covariates = list("boat_length", "past_price")), path = file.path(folder, "plan.yml"))
  arms <- carefultwin:::unseal_plan(carefultwin:::add_design(arms, "strata"))
  own <- new.env()
  script <- carefultwin:::plan_script(arms)
  withr::with_dir(folder, utils::capture.output(suppressWarnings(eval(parse(
    text = script[!grepl("write_report", script)]), own))))
  expect_identical(names(own$effects$strata), c("salted vs fresh", "smoked vs fresh"))
})
