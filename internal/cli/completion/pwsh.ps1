# Completion of yardbroom in PowerShell.
#   yardbroom completion pwsh | Out-String | Invoke-Expression      in $PROFILE

Register-ArgumentCompleter -Native -CommandName yardbroom -ScriptBlock {
    param($wordToComplete, $commandAst, $cursorPosition)
    $words = @($commandAst.CommandElements | Where-Object { $_.Extent.EndOffset -lt $cursorPosition } | ForEach-Object {
        if ($_ -is [System.Management.Automation.Language.StringConstantExpressionAst]) { $_.Value } else { $_.Extent.Text }
    })
    $current = "$wordToComplete".Trim("'", '"')
    $kind, $lines = & $words[0] complete words @words "$current" 2>$null
    if ($kind -ne 'values') { return }
    foreach ($line in $lines) {
        $value, $about = $line -split "`t", 2
        $text = $value
        if ($text -notmatch '^[A-Za-z0-9_./:=+-]+$') { $text = "'" + $text.Replace("'", "''") + "'" }
        if (-not $about) { $about = $value }
        [System.Management.Automation.CompletionResult]::new($text, $value, 'ParameterValue', $about)
    }
}
