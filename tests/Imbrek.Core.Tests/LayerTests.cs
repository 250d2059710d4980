using System.Xml.Linq;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The arrows of docs/architecture.md may only point down.</summary>
public class LayerTests
{
    private static readonly Dictionary<string, string[]> MayUse = new()
    {
        ["Imbrek.Core"] = [],
        ["Imbrek.StandIn"] = ["Imbrek.Core"],
        ["Imbrek.Data"] = ["Imbrek.Core"],
        ["Imbrek.Cli"] = ["Imbrek.Core"],
        ["Imbrek.Server"] = ["Imbrek.Core", "Imbrek.Data"],
        ["Imbrek.PostgreSql"] = ["Imbrek.Core", "Imbrek.Data", "Imbrek.Server"],
        ["Imbrek.Serve"] = ["Imbrek.Server", "Imbrek.PostgreSql"],
        ["Imbrek.Demo"] = ["Imbrek.Core", "Imbrek.Data", "Imbrek.StandIn", "Imbrek.Server", "Imbrek.PostgreSql"],
    };

    internal static string Root()
    {
        var root = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(root.FullName, "imbrek")))
        {
            root = root.Parent!;
        }

        return root.FullName;
    }

    [Fact]
    public void Projects_use_only_what_lies_below_them()
    {
        var projects = Directory.GetFiles(Path.Combine(Root(), "src"), "*.csproj", SearchOption.AllDirectories);
        Assert.Equal(MayUse.Keys.Order(), projects.Select(p => Path.GetFileNameWithoutExtension(p)).Order());
        foreach (var project in projects)
        {
            var uses = XDocument.Load(project).Descendants("ProjectReference").Select(r => Path.GetFileNameWithoutExtension(r.Attribute("Include")!.Value));
            Assert.All(uses, u => Assert.Contains(u, MayUse[Path.GetFileNameWithoutExtension(project)]));
        }
    }

    [Fact]
    public void The_core_does_no_io_and_reads_no_wall_clock()
    {
        string[] forbidden = ["System.Net", "System.IO.File", "File.", "Directory.", "DateTime.Now", "DateTime.UtcNow", "SystemClock", "Npgsql", "Microsoft.AspNetCore", "EntityFramework", "Console.", "Environment."];
        foreach (var file in Directory.GetFiles(Path.Combine(Root(), "src", "Imbrek.Core"), "*.cs", SearchOption.AllDirectories).Where(f => !f.Contains("/obj/", StringComparison.Ordinal)))
        {
            var code = string.Join('\n', File.ReadLines(file).Where(l => !l.TrimStart().StartsWith("//", StringComparison.Ordinal)));
            Assert.All(forbidden, word => Assert.False(
                System.Text.RegularExpressions.Regex.IsMatch(code, $@"(?<![\w.]){System.Text.RegularExpressions.Regex.Escape(word)}"), $"{Path.GetFileName(file)} uses {word}"));
        }
    }

    /// <summary>Only the evaluator subtracts a latest recoverable instant from another, or asks which copies outlive a loss; elsewhere its answers are shown.</summary>
    [Fact]
    public void Nothing_but_the_core_computes_an_exposure_or_a_path()
    {
        string[] computing = [@"-\s*\(?[\w.!?()]*[lL]atest\b", @"\bcovers_to\s*[-+]", @"now\(\)\s*-\s*covers", @"\bnew (Availability|Lineage|ReachOverWindow)\b"];
        string[] folders = ["src/Imbrek.Data", "src/Imbrek.Server", "src/Imbrek.PostgreSql", "src/Imbrek.StandIn", "src/Imbrek.Cli", "web/src"];
        var looked = 0;
        foreach (var file in folders.SelectMany(f => Directory.GetFiles(Path.Combine(Root(), f), "*.*", SearchOption.AllDirectories))
            .Where(f => Path.GetExtension(f) is ".cs" or ".ts" or ".tsx" && !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/Migrations/", StringComparison.Ordinal) && !f.Contains(".test.", StringComparison.Ordinal)))
        {
            var text = File.ReadAllText(file);
            Assert.All(computing, c => Assert.False(System.Text.RegularExpressions.Regex.IsMatch(text, c), $"{file} computes: {c}"));
            looked++;
        }

        Assert.True(looked > 150, $"only {looked} files were looked at");
    }
}
