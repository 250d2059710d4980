using System.Buffers.Binary;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>The hosts that alone get into a clone: by a sign-in rule of its own, tried from both sides as far as their addresses are this machine's.</summary>
internal sealed class NamedHosts
{
    private const int ProtocolVersion = 3 << 16, LongestAnswer = 4096;

    /// <summary>Asked from, where nothing else is at hand that was not named.</summary>
    private static readonly IPAddress[] Strangers = [IPAddress.Loopback, .. Enumerable.Range(1, 40).Select(i => new IPAddress([127, 0, 0, (byte)(255 - i)]))];

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    private readonly IReadOnlyList<(Host Host, IPAddress Address)> named;

    private NamedHosts(IReadOnlyList<(Host, IPAddress)> named) => this.named = named;

    /// <summary>The addresses at which it listens for them: those by which this machine reaches them.</summary>
    public IReadOnlyList<IPAddress> Listens => [.. named.Select(n => WayTo(n.Address)).Distinct()];

    /// <summary>Why a host cannot be let in; null when it can.</summary>
    public static string? WhyNot(Host host) =>
        host.Addresses.Count == 0 ? $"it is not stated from which addresses {host.Id} asks (Fleet, {host.Id}, asks from): no rule could let it in"
        : host.Addresses.FirstOrDefault(a => AddressOf(a) is null) is { } wrong ? $"\"{Core.Formats.InputBounds.Quote(wrong)}\", from which {host.Id} asks, is no IP address"
        : null;

    /// <exception cref="DriverException">One cannot be let in, and says why.</exception>
    public static NamedHosts Of(IEnumerable<Host> hosts) => new([.. hosts.SelectMany(h => WhyNot(h) is { } why
        ? throw new DriverException(DriverProblem.Refused, why)
        : h.Addresses.Select(a => (h, AddressOf(a)!)))]);

    /// <summary>An address of one machine; null for anything else, a number that would be read as one too.</summary>
    public static IPAddress? AddressOf(string text) =>
        IPAddress.TryParse(text, out var ip) && (ip.AddressFamily != AddressFamily.InterNetwork || ip.ToString() == text) && !ip.Equals(IPAddress.Any) && !ip.Equals(IPAddress.IPv6Any) ? ip : null;

    /// <summary>The rules by which they sign in, with the passwords that roles have, and nobody else does.</summary>
    /// <param name="database">The database they get into; null for each.</param>
    public string Rules(string? database)
    {
        // A password that is kept as a digest of the old kind gets in too; of the new kind it is asked for by that.
        var name = database is null ? "all" : $"\"{database.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";
        return string.Concat(named.Select(n => $"host {name} all {n.Address}/{(n.Address.AddressFamily == AddressFamily.InterNetwork ? 32 : 128)} md5\n"));
    }

    /// <summary>Tries from each of their addresses that is this machine's, and from one that was not named.</summary>
    /// <param name="port">The port it listens at.</param>
    /// <param name="user">A role it has.</param>
    /// <param name="database">The database they get into.</param>
    /// <param name="before">Addresses to be kept out that are tried first.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">One that should get in does not.</exception>
    public async Task<IReadOnlyList<CheckResult>> TryAsync(int port, string user, string database, IEnumerable<IPAddress> before, CancellationToken cancel)
    {
        var results = new List<CheckResult>();
        foreach (var (host, address) in named)
        {
            var at = WayTo(address);
            results.Add(await FromAsync(address, at, port, user, database, cancel) switch
            {
                null => new($"from {host.Id} ({address})", true, $"not tried: it is another machine; the rule lets it in"),
                { Length: 0 } => new($"from {host.Id} ({address})", true, "gets in"),
                var why => throw new DriverException(DriverProblem.Unreachable, $"{host.Id} should get in from {address} at {at}, port {port}, and does not: {why}"),
            });
        }

        foreach (var at in Listens)
        {
            foreach (var stranger in before.Append(at).Concat(Strangers).Where(s => s.AddressFamily == at.AddressFamily && !named.Any(n => n.Address.Equals(s))))
            {
                if (await FromAsync(stranger, at, port, user, database, cancel) is { } why)
                {
                    results.Add(new($"from {stranger}", why.Length > 0, why.Length > 0 ? $"is kept out: {why}" : "gets in, and should not"));
                    break;
                }
            }
        }

        return results;
    }

    /// <summary>The address by which this machine reaches another; nothing is sent.</summary>
    private static IPAddress WayTo(IPAddress address)
    {
        if (IPAddress.IsLoopback(address))
        {
            return address.AddressFamily == AddressFamily.InterNetwork ? IPAddress.Loopback : IPAddress.IPv6Loopback;
        }

        try
        {
            using var way = new Socket(address.AddressFamily, SocketType.Dgram, ProtocolType.Udp);
            way.Connect(address, 9);
            return ((IPEndPoint)way.LocalEndPoint!).Address;
        }
        catch (SocketException e)
        {
            throw new DriverException(DriverProblem.Unreachable, $"this machine has no way to {address}: {e.Message}");
        }
    }

    /// <summary>Asks to sign in from an address: null when that is not this machine's, nothing when it is asked who it is, otherwise why it is not let in.</summary>
    private static async Task<string?> FromAsync(IPAddress from, IPAddress at, int port, string user, string database, CancellationToken cancel)
    {
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        patience.CancelAfter(Patience);
        using var socket = new Socket(from.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
        try
        {
            socket.Bind(new IPEndPoint(from, 0));
        }
        catch (SocketException)
        {
            return null;
        }

        try
        {
            await socket.ConnectAsync(at, port, patience.Token);
            await socket.SendAsync(Asking(user, database), patience.Token);
            var answer = new byte[LongestAnswer];
            var length = 0;
            while (length < 5 || length < Math.Min(answer.Length, 1 + BinaryPrimitives.ReadInt32BigEndian(answer.AsSpan(1))))
            {
                if (await socket.ReceiveAsync(answer.AsMemory(length), patience.Token) is > 0 and var more)
                {
                    length += more;
                    continue;
                }

                return "the connection was ended without a word";
            }

            return answer[0] == (byte)'R' ? "" : Said(answer.AsSpan(5, length - 5));
        }
        catch (SocketException e)
        {
            return e.Message;
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return string.Create(CultureInfo.InvariantCulture, $"no answer within {Patience.TotalSeconds} s");
        }
    }

    /// <summary>The first message of the engine's protocol.</summary>
    private static byte[] Asking(string user, string database)
    {
        var words = Encoding.UTF8.GetBytes($"user\0{user}\0database\0{database}\0\0");
        var message = new byte[8 + words.Length];
        BinaryPrimitives.WriteInt32BigEndian(message, message.Length);
        BinaryPrimitives.WriteInt32BigEndian(message.AsSpan(4), ProtocolVersion);
        words.CopyTo(message, 8);
        return message;
    }

    /// <summary>The text of an error: fields of a letter and a word each.</summary>
    private static string Said(ReadOnlySpan<byte> error)
    {
        while (error.Length > 1 && error.IndexOf((byte)0) is > 0 and var end)
        {
            if (error[0] == (byte)'M')
            {
                return Encoding.UTF8.GetString(error[1..end]);
            }

            error = error[(end + 1)..];
        }

        return "it is refused";
    }
}
