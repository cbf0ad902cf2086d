import java.nio.file.Path;
import java.util.List;
import java.util.concurrent.CountDownLatch;

import org.opensearch.analysis.common.CommonAnalysisPlugin;
import org.opensearch.common.settings.Settings;
import org.opensearch.env.Environment;
import org.opensearch.node.Node;
import org.opensearch.transport.Netty4Plugin;

/** One OpenSearch node in the foreground: SearchNode FOLDER SETTING=VALUE ... */
public class SearchNode extends Node {
    SearchNode(Environment environment) {
        super(environment, List.of(Netty4Plugin.class, CommonAnalysisPlugin.class), false);
    }

    public static void main(String[] arguments) throws Exception {
        Path folder = Path.of(arguments[0]).toAbsolutePath();
        Settings.Builder settings = Settings.builder()
            .put("path.home", folder)
            .put("transport.type", "netty4")
            .put("http.type", "netty4")
            .put("network.host", "127.0.0.1");
        for (String argument : List.of(arguments).subList(1, arguments.length)) {
            int at = argument.indexOf('=');
            settings.put(argument.substring(0, at), argument.substring(at + 1));
        }
        SearchNode node = new SearchNode(new Environment(settings.build(), folder.resolve("config")));
        CountDownLatch closed = new CountDownLatch(1);
        Runtime.getRuntime().addShutdownHook(new Thread(() -> {
            try {
                node.close();
            } catch (Exception e) {
                e.printStackTrace();
            }
            closed.countDown();
        }));
        node.start();
        closed.await();
    }
}
