testthat::test_check("carefultwin")
