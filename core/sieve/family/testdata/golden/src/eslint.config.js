module.exports = [{ files: ["*.js"], rules: { "no-unused-vars": "warn", "no-undef": "error", "eqeqeq": "error", "no-debugger": "warn", "no-var": "error" } }];
