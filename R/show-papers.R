# The register of papers: what stands behind a number. One entry each, by a key; adding one is adding its entry here and
# naming its key below.

# As bibtex has it; authors parted by " and ", "Given Family".
new_paper <- function(author, year, title, journal = NULL, volume = NULL, number = NULL, pages = NULL, doi = NULL,
                      publisher = NULL) {
  list(author = author, year = year, title = title, journal = journal, volume = volume, number = number, pages = pages,
       doi = doi, publisher = publisher)
}

papers <- list(
  hirano2004 = new_paper(
    "Keisuke Hirano and Guido W. Imbens", 2004, "The propensity score with continuous treatments",
    doi = "10.1002/0470090456.ch7", publisher = paste(
      "Applied Bayesian Modeling and Causal Inference from Incomplete-Data Perspectives, Wiley")),
  vegetabile2021 = new_paper(
    paste("Brian G. Vegetabile and Beth Ann Griffin and Donna L. Coffman and Matthew Cefalu and Michael W. Robbins and",
          "Daniel F. McCaffrey"), 2021, paste(
      "Nonparametric estimation of population average dose-response curves using entropy balancing weights for",
      "continuous exposures"), "Health Services and Outcomes Research Methodology", 21, 1, "69--110",
      "10.1007/s10742-020-00236-2"),
  kennedy2017 = new_paper(
    "Edward H. Kennedy and Zongming Ma and Matthew D. McHugh and Dylan S. Small", 2017, paste(
      "Non-parametric methods for doubly robust estimation of continuous treatment effects"),
    "Journal of the Royal Statistical Society: Series B", 79, 4, "1229--1245", "10.1111/rssb.12212"),
  robins2000 = new_paper(
    "James M. Robins and Miguel A. Hern\u00e1n and Babette Brumback", 2000,
    "Marginal structural models and causal inference in epidemiology", "Epidemiology", 11, 5, "550--560",
    "10.1097/00001648-200009000-00011"),
  bang2005 = new_paper(
    "Heejung Bang and James M. Robins", 2005, "Doubly robust estimation in missing data and causal inference models",
    "Biometrics", 61, 4, "962--973", "10.1111/j.1541-0420.2005.00377.x"),
  jackson2016 = new_paper(
    "John W. Jackson", 2016, "Diagnostics for confounding of time-varying and other joint exposures", "Epidemiology",
    27, 6,
    "859--869", "10.1097/EDE.0000000000000547"),
  belloni2014 = new_paper(
    "Alexandre Belloni and Victor Chernozhukov and Christian Hansen", 2014, paste(
      "Inference on treatment effects after selection among high-dimensional controls"), "Review of Economic Studies",
    81, 2, "608--650", "10.1093/restud/rdt044"),
  rubin1987 = new_paper("Donald B. Rubin", 1987, "Multiple Imputation for Nonresponse in Surveys",
                        doi = "10.1002/9780470316696", publisher = "Wiley"),
  barnard1999 = new_paper(
    "John Barnard and Donald B. Rubin", 1999, "Small-sample degrees of freedom with multiple imputation", "Biometrika",
    86, 4, "948--955", "10.1093/biomet/86.4.948"),
  rosenbaum1983 = new_paper(
    "Paul R. Rosenbaum and Donald B. Rubin", 1983, paste(
      "The central role of the propensity score in observational studies for causal effects"), "Biometrika", 70, 1,
    "41--55", "10.1093/biomet/70.1.41"),
  imbens2015 = new_paper(
    "Guido W. Imbens and Donald B. Rubin", 2015,
    "Causal Inference for Statistics, Social, and Biomedical Sciences: An Introduction",
    publisher = "Cambridge University Press"),
  vanderlaan2007 = new_paper(
    "Mark J. van der Laan and Eric C. Polley and Alan E. Hubbard", 2007, "Super learner",
    "Statistical Applications in Genetics and Molecular Biology", 6, 1, "Article 25", "10.2202/1544-6115.1309"),
  crump2009 = new_paper(
    "Richard K. Crump and V. Joseph Hotz and Guido W. Imbens and Oscar A. Mitnik", 2009,
    "Dealing with limited overlap in estimation of average treatment effects", "Biometrika", 96, 1, "187--199",
    "10.1093/biomet/asn055"),
  austin2011 = new_paper(
    "Peter C. Austin", 2011, paste(
      "Optimal caliper widths for propensity-score matching when estimating differences in means and differences in",
      "proportions in observational studies"), "Pharmaceutical Statistics", 10, 2, "150--161", "10.1002/pst.433"),
  hansen2004 = new_paper(
    "Ben B. Hansen", 2004, "Full matching in an observational study of coaching for the SAT",
    "Journal of the American Statistical Association", 99, 467, "609--618", "10.1198/016214504000000647"),
  iacus2012 = new_paper(
    "Stefano M. Iacus and Gary King and Giuseppe Porro", 2012,
    "Causal inference without balance checking: Coarsened exact matching", "Political Analysis", 20, 1, "1--24",
    "10.1093/pan/mpr013"),
  zubizarreta2014 = new_paper(
    "Jos\u00e9 R. Zubizarreta and Ricardo D. Paredes and Paul R. Rosenbaum", 2014, paste(
      "Matching for balance, pairing for heterogeneity in an observational study of the effectiveness of for-profit",
      "and not-for-profit high schools in Chile"), "The Annals of Applied Statistics", 8, 1, "204--231",
    "10.1214/13-AOAS713"),
  diamond2013 = new_paper(
    "Alexis Diamond and Jasjeet S. Sekhon", 2013, paste(
      "Genetic matching for estimating causal effects: A general multivariate matching method for achieving balance in",
      "observational studies"), "Review of Economics and Statistics", 95, 3, "932--945", "10.1162/REST_a_00318"),
  hong2010 = new_paper(
    "Guanglei Hong", 2010, paste(
      "Marginal mean weighting through stratification: Adjustment for selection bias in multilevel data"),
    "Journal of Educational and Behavioral Statistics", 35, 5, "499--531", "10.3102/1076998609359785"),
  hong2012 = new_paper(
    "Guanglei Hong", 2012, paste(
      "Marginal mean weighting through stratification: A generalized method for evaluating multivalued and multiple",
      "treatments with nonexperimental data"), "Psychological Methods", 17, 1, "44--60", "10.1037/a0024918"),
  imbens2000 = new_paper(
    "Guido W. Imbens", 2000, "The role of the propensity score in estimating dose-response functions", "Biometrika", 87,
    3, "706--710", "10.1093/biomet/87.3.706"),
  yang2016 = new_paper(
    "Shu Yang and Guido W. Imbens and Zhanglin Cui and Douglas E. Faries and Zbigniew Kadziola", 2016, paste(
      "Propensity score matching and subclassification in observational studies with multi-level treatments"),
    "Biometrics", 72, 4, "1055--1065", "10.1111/biom.12505"),
  savje2021 = new_paper(
    "Fredrik S\u00e4vje and Michael J. Higgins and Jasjeet S. Sekhon", 2021, "Generalized full matching",
    "Political Analysis", 29, 4, "423--447", "10.1017/pan.2020.32"),
  hirano2003 = new_paper(
    "Keisuke Hirano and Guido W. Imbens and Geert Ridder", 2003, paste(
      "Efficient estimation of average treatment effects using the estimated propensity score"), "Econometrica", 71, 4,
    "1161--1189", "10.1111/1468-0262.00442"),
  li2018 = new_paper(
    "Fan Li and Kari Lock Morgan and Alan M. Zaslavsky", 2018,
    "Balancing covariates via propensity score weighting", "Journal of the American Statistical Association", 113, 521,
    "390--400", "10.1080/01621459.2016.1260466"),
  hainmueller2012 = new_paper(
    "Jens Hainmueller", 2012, paste(
      "Entropy balancing for causal effects: A multivariate reweighting method to produce balanced samples in",
      "observational studies"), "Political Analysis", 20, 1, "25--46", "10.1093/pan/mpr025"),
  imai2014 = new_paper(
    "Kosuke Imai and Marc Ratkovic", 2014, "Covariate balancing propensity score",
    "Journal of the Royal Statistical Society: Series B", 76, 1, "243--263", "10.1111/rssb.12027"),
  zubizarreta2015 = new_paper(
    "Jos\u00e9 R. Zubizarreta", 2015, paste(
      "Stable weights that balance covariates for estimation with incomplete outcome data"),
    "Journal of the American Statistical Association", 110, 511, "910--922", "10.1080/01621459.2015.1023805"),
  robins1994 = new_paper(
    "James M. Robins and Andrea Rotnitzky and Lue Ping Zhao", 1994, paste(
      "Estimation of regression coefficients when some regressors are not always observed"),
    "Journal of the American Statistical Association", 89, 427, "846--866", "10.1080/01621459.1994.10476818"),
  vanderlaan2006 = new_paper(
    "Mark J. van der Laan and Daniel Rubin", 2006, "Targeted maximum likelihood learning",
    "The International Journal of Biostatistics", 2, 1, "Article 11", "10.2202/1557-4679.1043"),
  semenova2021 = new_paper(
    "Vira Semenova and Victor Chernozhukov", 2021, paste(
      "Debiased machine learning of conditional average treatment effects and other causal functions"),
    "Econometrics Journal", 24, 2, "264--289", "10.1093/ectj/utaa027"),
  chernozhukov2025 = new_paper(
    "Victor Chernozhukov and Mert Demirer and Esther Duflo and Iv\u00e1n Fern\u00e1ndez-Val", 2025, paste(
      "Fisher-Schultz Lecture: generic machine learning inference on heterogeneous treatment effects in randomized",
      "experiments, with an application to immunization in India"), "Econometrica", 93, 4, "1121--1164",
    "10.3982/ECTA19303"),
  kennedy2023 = new_paper(
    "Edward H. Kennedy", 2023, "Towards optimal doubly robust estimation of heterogeneous causal effects",
    "Electronic Journal of Statistics", 17, 2, "3008--3049", "10.1214/23-EJS2157"),
  yadlowsky2025 = new_paper(
    "Steve Yadlowsky and Scott Fleming and Nigam Shah and Emma Brunskill and Stefan Wager", 2025, paste(
      "Evaluating treatment prioritization rules via rank-weighted average treatment effects"),
    "Journal of the American Statistical Association", 120, 549, "38--51", "10.1080/01621459.2024.2393466"),
  chernozhukov2018 = new_paper(
    paste("Victor Chernozhukov and Denis Chetverikov and Mert Demirer and Esther Duflo and Christian Hansen and",
          "Whitney Newey and James Robins"), 2018, paste(
            "Double/debiased machine learning for treatment and structural parameters"), "The Econometrics Journal",
    21, 1, "C1--C68", "10.1111/ectj.12097"),
  satten2001 = new_paper(
    "Glen A. Satten and Somnath Datta", 2001, paste(
      "The Kaplan-Meier estimator as an inverse-probability-of-censoring weighted average"),
    "The American Statistician", 55, 3, "207--210", "10.1198/000313001317098185"),
  cox1972 = new_paper(
    "David R. Cox", 1972, "Regression models and life-tables", "Journal of the Royal Statistical Society: Series B",
    34, 2, "187--220", "10.1111/j.2517-6161.1972.tb00899.x"),
  abadie2006 = new_paper(
    "Alberto Abadie and Guido W. Imbens", 2006,
    "Large sample properties of matching estimators for average treatment effects", "Econometrica", 74, 1, "235--267",
    "10.1111/j.1468-0262.2006.00655.x"),
  abadie2011 = new_paper(
    "Alberto Abadie and Guido W. Imbens", 2011, "Bias-corrected matching estimators for average treatment effects",
    "Journal of Business & Economic Statistics", 29, 1, "1--11", "10.1198/jbes.2009.07333"),
  abadie2016 = new_paper(
    "Alberto Abadie and Guido W. Imbens", 2016, "Matching on the estimated propensity score", "Econometrica", 84, 2,
    "781--807", "10.3982/ECTA11293"),
  abadie2022 = new_paper(
    "Alberto Abadie and Jann Spiess", 2022, "Robust post-matching inference",
    "Journal of the American Statistical Association", 117, 538, "983--995", "10.1080/01621459.2020.1840383"),
  rao1988 = new_paper(
    "J. N. K. Rao and C. F. J. Wu", 1988, "Resampling inference with complex survey data",
    "Journal of the American Statistical Association", 83, 401, "231--241", "10.1080/01621459.1988.10478591"),
  rosenbaum2002 = new_paper("Paul R. Rosenbaum", 2002, "Observational Studies", publisher = "Springer",
                            doi = "10.1007/978-1-4757-3692-2"),
  tan2006 = new_paper(
    "Zhiqiang Tan", 2006, "A distributional approach for causal inference using propensity scores",
    "Journal of the American Statistical Association", 101, 476, "1619--1637", "10.1198/016214506000000023"),
  zhao2019 = new_paper(
    "Qingyuan Zhao and Dylan S. Small and Bhaswar B. Bhattacharya", 2019, paste(
      "Sensitivity analysis for inverse probability weighting estimators via the percentile bootstrap"),
    "Journal of the Royal Statistical Society: Series B", 81, 4, "735--761", "10.1111/rssb.12327"),
  cinelli2020 = new_paper(
    "Carlos Cinelli and Chad Hazlett", 2020, "Making sense of sensitivity: Extending omitted variable bias",
    "Journal of the Royal Statistical Society: Series B", 82, 1, "39--67", "10.1111/rssb.12348"),
  vanderweele2017 = new_paper(
    "Tyler J. VanderWeele and Peng Ding", 2017,
    "Sensitivity analysis in observational research: Introducing the E-value", "Annals of Internal Medicine", 167, 4,
    "268--274", "10.7326/M16-2607"),
  oster2019 = new_paper(
    "Emily Oster", 2019, "Unobservable selection and coefficient stability: Theory and evidence",
    "Journal of Business & Economic Statistics", 37, 2, "187--204", "10.1080/07350015.2016.1227711"),
  arkhangelsky2021 = new_paper(
    "Dmitry Arkhangelsky and Susan Athey and David A. Hirshberg and Guido W. Imbens and Stefan Wager", 2021,
    "Synthetic difference-in-differences", "American Economic Review", 111, 12, "4088--4118", "10.1257/aer.20190159"),
  xu2017 = new_paper(
    "Yiqing Xu", 2017, paste(
      "Generalized synthetic control method: Causal inference with interactive fixed effects models"),
    "Political Analysis", 25, 1, "57--76", "10.1017/pan.2016.2"),
  abadie2010 = new_paper(
    "Alberto Abadie and Alexis Diamond and Jens Hainmueller", 2010, paste(
      "Synthetic control methods for comparative case studies: Estimating the effect of California's tobacco control",
      "program"), "Journal of the American Statistical Association", 105, 490, "493--505",
    "10.1198/jasa.2009.ap08746"),
  dechaisemartin2023 = new_paper(
    "Cl\u00e9ment de Chaisemartin and Xavier D'Haultf\u0153uille", 2023,
    "Two-way fixed effects and differences-in-differences estimators with several treatments",
    "Journal of Econometrics", 236, 2, "105480", "10.1016/j.jeconom.2023.105480"),
  cameron2011 = new_paper(
    "A. Colin Cameron and Jonah B. Gelbach and Douglas L. Miller", 2011, "Robust inference with multiway clustering",
    "Journal of Business & Economic Statistics", 29, 2, "238--249", "10.1198/jbes.2010.07136"),
  conley1999 = new_paper(
    "Timothy G. Conley", 1999, "GMM estimation with cross sectional dependence", "Journal of Econometrics", 92, 1,
    "1--45", "10.1016/S0304-4076(98)00084-0"),
  callaway2024 = new_paper(
    "Brantly Callaway and Andrew Goodman-Bacon and Pedro H. C. Sant'Anna", 2024,
    "Difference-in-differences with a continuous treatment", "NBER working paper 32117", doi = "10.3386/w32117"),
  ortizvillavicencio2025 = new_paper(
    "Marcelo Ortiz-Villavicencio and Pedro H. C. Sant'Anna", 2025,
    "Better understanding triple differences estimators", "arXiv 2505.09942", doi = "10.48550/arXiv.2505.09942"),
  dechaisemartin2024 = new_paper(
    "Cl\u00e9ment de Chaisemartin and Xavier D'Haultf\u0153uille", 2024,
    "Difference-in-differences estimators of intertemporal treatment effects", "Review of Economics and Statistics",
    doi = "10.1162/rest_a_01414"),
  rambachan2023 = new_paper(
    "Ashesh Rambachan and Jonathan Roth", 2023, "A more credible approach to parallel trends",
    "The Review of Economic Studies", 90, 5, "2555--2591", "10.1093/restud/rdad018"),
  callaway2021 = new_paper(
    "Brantly Callaway and Pedro H. C. Sant'Anna", 2021, "Difference-in-differences with multiple time periods",
    "Journal of Econometrics", 225, 2, "200--230", "10.1016/j.jeconom.2020.12.001"),
  santanna2020 = new_paper(
    "Pedro H. C. Sant'Anna and Jun Zhao", 2020, "Doubly robust difference-in-differences estimators",
    "Journal of Econometrics", 219, 1, "101--122", "10.1016/j.jeconom.2020.06.003"),
  borusyak2024 = new_paper(
    "Kirill Borusyak and Xavier Jaravel and Jann Spiess", 2024,
    "Revisiting event-study designs: Robust and efficient estimation", "The Review of Economic Studies", 91, 6,
    "3253--3285", "10.1093/restud/rdae007"),
  sun2021 = new_paper(
    "Liyang Sun and Sarah Abraham", 2021, paste(
      "Estimating dynamic treatment effects in event studies with heterogeneous treatment effects"),
    "Journal of Econometrics", 225, 2, "175--199", "10.1016/j.jeconom.2020.09.006"),
  goodmanbacon2021 = new_paper(
    "Andrew Goodman-Bacon", 2021, "Difference-in-differences with variation in treatment timing",
    "Journal of Econometrics", 225, 2, "254--277", "10.1016/j.jeconom.2021.03.014"),
  dechaisemartin2020 = new_paper(
    "Cl\u00e9ment de Chaisemartin and Xavier D'Haultf\u0153uille", 2020,
    "Two-way fixed effects estimators with heterogeneous treatment effects", "American Economic Review", 110, 9,
    "2964--2996", "10.1257/aer.20181169"),
  cameron2008 = new_paper(
    "A. Colin Cameron and Jonah B. Gelbach and Douglas L. Miller", 2008,
    "Bootstrap-based improvements for inference with clustered errors", "Review of Economics and Statistics", 90, 3,
    "414--427", "10.1162/rest.90.3.414")
)

# Which papers stand behind each entry of the other registers.
paper_keys <- list(
  estimands = list(ATO = "li2018"),
  weighings = list(
    inverse = c("rosenbaum1983", "hirano2003"), entropy = "hainmueller2012", balancing_score = "imai2014",
    stable = "zubizarreta2015", own = character(), strata = "hong2010", cells = "iacus2012",
    cardinality = "zubizarreta2014", arms = "imbens2000", arm_entropy = "hainmueller2012", arm_own = character(),
    arm_strata = "hong2012", arm_cells = "iacus2012", arm_pairs = "yang2016", arm_sets = "savje2021"
  ),
  groups = list(full = "hansen2004", exact = character(), coarsened = "iacus2012", cardinality = "zubizarreta2014"),
  estimators = list(
    difference = character(), regression = character(), augmented = "robins1994", targeted = "vanderlaan2006",
    crossfit = "chernozhukov2018", selection = "belloni2014", survival = "cox1972", own = character()
  ),
  did = list(
    group_time = "callaway2021", imputation = "borusyak2024", interaction = "sun2021",
    two_way = c("goodmanbacon2021", "dechaisemartin2020"), event_study = "sun2021", two_period = character(),
    dose = "callaway2024", triple = "ortizvillavicencio2025", synthetic = c("arkhangelsky2021", "abadie2010")
  ),
  dose = list(inverse = "hirano2004", entropy = "vegetabile2021"),
  variation = c("semenova2021", "chernozhukov2025", "kennedy2023", "yadlowsky2025"),
  probes = list(
    effect = character(), pairs = "rosenbaum2002", weights = c("tan2006", "zhao2019"), omitted = "cinelli2020",
    ratio = "vanderweele2017", stability = "oster2019", placebo = character(), choices = character(),
    stand_ins = "abadie2010",
    trends = "rambachan2023"
  )
)

#' Papers behind a result
#'
#' Which papers stand behind a number: those of the design's steps, of the estimator and of its standard errors; of a
#' probe, of its bounds. `print()` shows them as a list of references, `format(x, "bibtex")` as entries for a `.bib`
#' file.
#'
#' @param x A design, effect, set of effects, comparison, effect over time, test of trends, decomposition or probe, or
#'   a list of such.
#' @return A `twin_references`. `as.data.frame()` gives one row per paper: `key`, `author`, `year`, `title`, `journal`,
#'   `doi`.
#' @section Errors: `twin_error_input` for anything else.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + past_income)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect(estimator = "augmented")
#' references(effect)
#' cat(format(references(effect), "bibtex"), sep = "\n")
#' @export
references <- function(x) {
  made_by <- c(twin_design = "score_units", twin_effect = "measure_effect", twin_effects = "measure_effect",
               twin_comparison = "compare_effects", twin_trends = "assess_trends",
               twin_decomposition = "decompose_did", twin_probe = "probe_effect", twin_dids = "measure_did",
               twin_variation = "measure_variation", twin_response = "measure_response",
               twin_course_effect = "measure_course", twin_dose = "weigh_units", twin_course = "weigh_units")
  parts <- lapply(if (is_plain_list(x)) x else list(x), first_set)
  for (part in parts) check_class(part, names(made_by), made_by, "x")
  structure(list(keys = sorted_keys(unlist(lapply(parts, papers_of)))), class = "twin_references")
}

is_plain_list <- function(x) is.list(x) && length(class(x)) == 1L && identical(class(x), "list") && length(x) > 0L

# In the order of the list of references.
sorted_keys <- function(keys) {
  keys <- unique(keys)
  keys[order(vapply(keys, author_words, ""), vapply(keys, function(key) papers[[key]]$year, 0))]
}

papers_of <- function(x) {
  if (inherits(x, c("twin_comparison", "twin_effects", "twin_dids"))) {
    return(unlist(lapply(unclass(x)$effects, papers_of)))
  }
  if (inherits(x, "twin_did")) return(did_papers(x))
  if (inherits(x, "twin_effect")) return(effect_papers(x))
  if (inherits(x, "twin_design")) return(design_papers(x))
  if (inherits(x, "twin_dose_decomposition")) return(paper_keys$did$dose)
  if (inherits(x, "twin_decomposition")) return(paper_keys$did$two_way)
  if (inherits(x, "twin_variation")) return(paper_keys$variation)
  if (inherits(x, c("twin_response", "twin_course_effect", "twin_dose", "twin_course"))) return(other_papers(x))
  if (inherits(x, "twin_probe")) {
    return(c(paper_keys$probes[[sub("twin_probe_", "", class(x)[1L])]], unlist(lapply(x$probes, papers_of))))
  }
  character()
}

design_papers <- function(x) unlist(lapply(x$steps, step_keys, estimand = x$study$estimand))

step_keys <- function(step, estimand) {
  switch(
    step$verb,
    score = c("rosenbaum1983", if (!is.null(step$settings$learners)) "vanderlaan2007",
              if (identical(step$settings$select, "ladder")) "imbens2015"),
    trim = if (step$rule == "least_variance") if (is.null(step$most)) "crump2009" else "yang2016",
    pair = c(if (!is.null(step$weighing)) paper_keys$weighings[[step$weighing]],
             if (any(step$calipers$name == "score")) "austin2011"),
    group = if (is.null(step$weighing)) paper_keys$groups[[step$method]] else paper_keys$weighings[[step$weighing]],
    search = "diamond2013",
    stratify = paper_keys$weighings[[weighing_behind(step, "strata")]],
    weigh = c(paper_keys$weighings[[weighing_behind(step, "inverse")]], paper_keys$estimands[[estimand]])
  )
}

# The entry of the register that a step has made: of several arms, or of a method by its name.
weighing_behind <- function(step, otherwise) c(step$weighing, step$method, otherwise)[1L]

# The design that an effect stands on; NULL for a raw study and for effects over time.
design_behind <- function(effect) {
  if (!inherits(effect, "twin_effect") || inherits(effect, "twin_did")) return(NULL)
  design <- design_of(effect)
  if (inherits(design, "twin_design")) design
}

effect_papers <- function(x) {
  design <- design_behind(x)
  asked <- x$source$asked
  c(
    if (!is.null(design)) design_papers(design), paper_keys$estimators[[x$estimator]],
    if (x$reuse) {
      c("abadie2006", if (!is.null(x$family)) "abadie2011", if (!is.null(score_behind(design))) "abadie2016")
    },
    if (!is.null(asked$censoring_model)) "satten2001", if (!is.null(x$sets) && !x$by_unit) "abadie2022",
    if (is_pooled(x)) c("rubin1987", "barnard1999"),
    if (identical(asked$inference, "bootstrap") && !is.null(x$study$stratum)) "rao1988"
  )
}

did_papers <- function(x) {
  own <- paper_keys$did[[x$asked$estimator]]
  if (is_switching(x$study)) own <- "dechaisemartin2024"
  if (is_held(x$study)) own <- c(own, "dechaisemartin2023")
  if (!is.null(x$asked$factors)) own <- c(own, "xu2017")
  if (!is.null(x$synthetic)) own <- own[if (x$asked$parallel) 1L else 2L]
  c(own, if (identical(x$asked$adjustment, "augmented")) "santanna2020",
    if (identical(x$asked$inference, "wild")) "cameron2008",
    if (!is.null(x$asked$spread)) c(crossed = "cameron2011", near = "conley1999")[[x$asked$spread$kind]])
}

other_step_keys <- function(step, dose) {
  if (!dose) return(if (step$verb == "weigh") c("robins2000", "jackson2016"))
  if (step$verb == "weigh") paper_keys$dose[[step$method]]
}

other_method_papers <- function(effect) {
  register <- if (inherits(effect, "twin_response")) response_estimators else course_estimators
  register[[effect$estimator]]$papers
}

# All papers behind a dose, a course or what was measured on them.
other_papers <- function(x) {
  design <- if (inherits(x, c("twin_response", "twin_course_effect"))) x$source$x else x
  c(unlist(lapply(design$steps, other_step_keys, dose = is_dose(design))),
    if (!identical(design, x)) other_method_papers(x))
}

# "van der Laan" of "Mark J. van der Laan".
family_names <- function(key) {
  authors <- strsplit(papers[[key]]$author, " and ", fixed = TRUE)[[1L]]
  regmatches(authors, regexpr("(van der |de )?[^ ]+$", authors))
}

author_words <- function(key) {
  names <- family_names(key)
  if (length(names) > 3L) return(paste(names[1L], "and others"))
  and_list(names)
}

# "Rosenbaum and Rubin, 1983".
short_reference <- function(key) sprintf("%s, %d", author_words(key), as.integer(papers[[key]]$year))

# A line of the list of references.
long_reference <- function(key) {
  paper <- papers[[key]]
  authors <- and_list(strsplit(paper$author, " and ", fixed = TRUE)[[1L]])
  where <- if (is.null(paper$journal)) paper$publisher else paste(c(
    paper$journal, if (!is.null(paper$volume)) paste0(paper$volume, if (!is.null(paper$number))
      sprintf("(%s)", paper$number)), sub("--", "\u2013", paper$pages, fixed = TRUE)
  ), collapse = ", ")
  sprintf("%s (%d). %s. %s.%s", authors, as.integer(paper$year), paper$title, where,
          if (is.null(paper$doi)) "" else paste0(" doi:", paper$doi))
}

reference_lines <- function(keys) vapply(sorted_keys(keys), long_reference, "", USE.NAMES = FALSE)

bibtex_lines <- function(keys) {
  if (length(keys) == 0L) return("% no papers are cited")
  unlist(lapply(sorted_keys(keys), function(key) {
    paper <- papers[[key]]
    fields <- Filter(Negate(is.null), paper)
    text <- gsub("([&%#])", "\\\\\\1", vapply(fields, as.character, ""))
    text[["title"]] <- paste0("{", text[["title"]], "}")
    c(sprintf("@%s{%s,", if (is.null(paper$journal)) "book" else "article", key),
      paste0(sprintf("  %s = {%s}", names(text), text), c(rep(",", length(text) - 1L), "")), "}", "")
  }))
}

#' @export
format.twin_references <- function(x, style = c("words", "bibtex"), ...) {
  rlang::check_dots_empty()
  style <- check_choice(style, c("words", "bibtex"))
  if (style == "bibtex") return(bibtex_lines(x$keys))
  if (length(x$keys) == 0L) return("No paper stands behind this: it is a plain comparison.")
  unlist(lapply(reference_lines(x$keys), strwrap, width = print_width(), exdent = 2L))
}

#' @export
print.twin_references <- function(x, ...) print_lines(x, format(x))

#' @export
as.data.frame.twin_references <- function(x, ...) {
  of <- function(field) {
    vapply(x$keys, function(key) {
      value <- papers[[key]][[field]]
      if (is.null(value)) NA_character_ else as.character(value)
    }, "", USE.NAMES = FALSE)
  }
  data.frame(key = as.character(x$keys), author = of("author"), year = as.integer(of("year")), title = of("title"),
             journal = of("journal"), doi = of("doi"))
}
