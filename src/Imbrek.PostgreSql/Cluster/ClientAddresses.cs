using System.Globalization;
using System.Text;
using Imbrek.PostgreSql.Store;
using Microsoft.Extensions.Configuration;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>
/// The addresses by which clients reach databases wherever they run: a folder (<c>--addresses</c>) in which whoever answers at such an address says where that is (<c>NAME.at</c>), and this product where it leads
/// (<c>NAME</c>), each as <c>address:port</c>. What reads it may be a relay, or a script that changes a record of names.
/// </summary>
internal sealed class ClientAddresses(string folder)
{
    /// <summary>Those of an installation; null when it has none.</summary>
    public static ClientAddresses? Of(IConfiguration configuration) => configuration["addresses"] is { Length: > 0 } folder ? new(folder) : null;

    /// <summary>Where clients of a database ask; null when nobody answers for it.</summary>
    public (string Address, int Port)? Find(string database) => Read($"{database}.at");

    /// <summary>Where it leads; null when nobody has said.</summary>
    public (string Address, int Port)? LeadsTo(string database) => Read(database);

    /// <summary>Has it lead somewhere from now on.</summary>
    public Task SendAsync(string database, string address, int port, CancellationToken cancel) => WriteAsync(database, address, port, cancel);

    /// <summary>Says where one answers.</summary>
    public Task AnswersAtAsync(string database, string address, int port, CancellationToken cancel) => WriteAsync($"{database}.at", address, port, cancel);

    private Task WriteAsync(string file, string address, int port, CancellationToken cancel)
    {
        Directory.CreateDirectory(folder);
        return FolderStore.WriteWholeAsync(Path.Combine(folder, file), Encoding.UTF8.GetBytes(string.Create(CultureInfo.InvariantCulture, $"{address}:{port}\n")), cancel);
    }

    private (string Address, int Port)? Read(string file)
    {
        try
        {
            var text = File.ReadAllText(Path.Combine(folder, file)).Trim();
            return text.LastIndexOf(':') is > 0 and var colon && int.TryParse(text.AsSpan(colon + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var port) ? (text[..colon], port) : null;
        }
        catch (IOException)
        {
            return null;
        }
    }
}
