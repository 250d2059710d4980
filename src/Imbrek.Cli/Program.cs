using System.CommandLine;
using Imbrek.Cli;
using Spectre.Console;

if (Console.IsOutputRedirected)
{
    // A file has no edge to wrap at.
    AnsiConsole.Profile.Width = 200;
}

var root = new RootCommand("Imbrek on the open files: what could be lost, how soon one would be back.")
{
    EvaluateCommand.Create(),
    PathCommand.Create(),
    ReplicasCommand.Create(),
    DrillCommand.Create(),
    ProgrammeCommand.Create(),
    CommonCommand.Create(),
    MoveCommand.Create(),
    SiteReturnCommand.Create(),
    VersionsCommand.Create(),
    VerifyLedgerCommand.Create(),
};
var parsed = root.Parse(args);
if (parsed.Errors.Count > 0)
{
    Console.Error.WriteLine($"imbrek: {parsed.Errors[0].Message}");
    return 2;
}

try
{
    return parsed.Invoke(new InvocationConfiguration { EnableDefaultExceptionHandler = false });
}
catch (InputException e)
{
    Console.Error.WriteLine($"imbrek: {e.Message}");
    return 2;
}
